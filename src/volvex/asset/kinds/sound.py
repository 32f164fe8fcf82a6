"""Sounds."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from volvex.archive.detect import filetypes
from volvex.asset.kind import Exported, Fault, Merged, Proof
from volvex.errors import RefusedError
from volvex.layout import Library
from volvex.source import Source

NAME, PRIORITY = "sound", 20


def extensions() -> Sequence[str]:
    from volvex.asset.sound.formats import by_extension

    return tuple(by_extension())


def proof(source: Source, library: Library) -> Proof | None:
    from volvex.asset.sound.describe import short_text
    from volvex.asset.sound.open import form_in
    from volvex.asset.sound.own_layout import LayoutSound
    from volvex.asset.sound.proof import sound_change_faults, sound_hints

    form = form_in(source, library)
    if not isinstance(form, LayoutSound):
        return None
    sound = form.read(source)
    return Proof(
        sound.extra["reading"],
        f"a sound of {short_text(sound)}",
        lambda: list(sound_hints(sound, form.spec_of(sound))),
        lambda: sound_change_faults(form, sound),
    )


def recognises(source: Source, library: Library) -> bool:
    from volvex.asset.sound.open import form_in, may_be_sound

    kind = filetypes.kind_by_content(source.peek(0, filetypes.HEAD))
    return may_be_sound(kind) and form_in(source, library) is not None


def describe(source: Source, library: Library) -> Sequence[tuple[str, str]]:
    from volvex.asset.sound.describe import duration_text, format_text
    from volvex.asset.sound.open import require_sound

    sound = require_sound(source, library).sound
    return [("duration", f"{duration_text(sound.duration)}, {sound.frames:,} frames"), ("format", format_text(sound))]


def export(source: Source, library: Library, extension: str) -> Exported:
    from volvex.asset.sound.exchange import exported
    from volvex.asset.sound.open import require_sound

    sound = require_sound(source, library).sound
    data, notes = exported(sound, extension)
    return Exported(data, (*sound.notes, *notes))


def take_over(base: Source, library: Library, edited: Source, extension: str) -> Merged:
    from volvex.asset.sound.exchange import differing_frames, taken_over
    from volvex.asset.sound.open import open_sound, require_sound

    own, user = require_sound(base, library), open_sound(edited)
    if user is None:
        kind = filetypes.kind_by_content(edited.peek(0, filetypes.HEAD))
        raise RefusedError(f"this is no sound, but {kind}", "saving it again")
    result = taken_over(own.sound, user.sound, extension)
    frames = differing_frames(own.sound, result.sound)
    what = f"{frames:,} frame{'s' if frames != 1 else ''} taken over"
    return Merged(own.form.write(result.sound), what, tuple(result.notes))


def faults(before: Source, after: Source, library: Library) -> Iterator[Fault]:
    from volvex.asset.sound.check import faults_between
    from volvex.asset.sound.open import open_sound, require_sound

    own, user = require_sound(before, library), open_sound(after, library)
    if user is None or user.sound.form != own.sound.form:
        has = f"this is {user.sound.form}" if user is not None else "this is no sound"
        said = f"{has}, the game's own is a sound of {own.sound.form}"
        yield Fault("error", "kind", said, "`volvex swap` with a sound, which converts it")
        return
    yield from faults_between(own.sound, user.sound)
