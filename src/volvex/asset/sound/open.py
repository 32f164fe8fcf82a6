"""Which sound some bytes are: of an open form by their type, of the game's own by a layout."""

from __future__ import annotations

from dataclasses import dataclass

from volvex.archive.detect import filetypes
from volvex.asset.layout_of import own_layout
from volvex.asset.sound.formats import SoundFormat, by_kind
from volvex.asset.sound.model import Sound
from volvex.errors import UsageError
from volvex.layout import Layout, Library
from volvex.source import BytesSource, Source

SOUND = "sound"  # the kind of layouts of sounds


@dataclass(frozen=True)
class OpenedSound:
    """A sound, and what writes it again in its own form."""

    sound: Sound
    form: SoundFormat


def is_sound(kind: str) -> bool:
    """Whether a type of files is a sound of an open form."""
    return kind in by_kind()


def may_be_sound(kind: str) -> bool:
    """Whether files of a type are sounds, or may be one of a game's own."""
    return kind in by_kind() or kind == "binary"


def form_in(source: Source, library: Library | None = None, layout: Layout | None = None) -> SoundFormat | None:
    """The form of the sound in some bytes; None when they are none."""
    kind = filetypes.kind_by_content(source.peek(0, filetypes.HEAD)) if layout is None else ""
    if kind in by_kind():
        return by_kind()[kind]
    own = own_layout(source, SOUND, library, layout)
    if own is None:
        return None
    from volvex.asset.sound.own_layout import LayoutSound

    return LayoutSound(own)


def open_sound(source: Source, library: Library | None = None, layout: Layout | None = None) -> OpenedSound | None:
    """The sound in some bytes, by its head; None when they are none. FormatError when they are damaged.

    Its samples are read from the source when they are asked for.
    """
    form = form_in(source, library, layout)
    return OpenedSound(form.read(source), form) if form is not None else None


def require_sound(source: Source, library: Library | None = None, layout: Layout | None = None) -> OpenedSound:
    """The same; UsageError when the bytes are no sound."""
    found = open_sound(source, library, layout)
    if found is None:
        kind = filetypes.kind_by_content(source.peek(0, filetypes.HEAD))
        raise UsageError(f"{source.name} is no sound, but {kind}", "`volvex identify` for what it is")
    return found


def read_bytes(data: bytes, name: str) -> Sound:
    """The sound in bytes of an open form."""
    return require_sound(BytesSource(data, name)).sound
