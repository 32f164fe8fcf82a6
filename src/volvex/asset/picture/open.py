"""Which picture some bytes are: of an open form by their type, of the game's own by a layout."""

from __future__ import annotations

from dataclasses import dataclass, replace

from volvex.archive.detect import filetypes
from volvex.asset.layout_of import own_layout
from volvex.asset.picture.formats import PictureFormat, by_kind
from volvex.asset.picture.model import Picture
from volvex.asset.picture.roles import roles_of
from volvex.errors import FRESH, FormatError, UsageError
from volvex.layout import Layout, Library
from volvex.source import Source

TEXTURE = "texture"  # the kind of layouts of pictures


@dataclass(frozen=True)
class OpenedPicture:
    """A picture, and what writes it again in its own form."""

    picture: Picture
    form: PictureFormat

    def files(self, picture: Picture) -> dict[str, bytes]:
        """What is written for another picture in this one's place: its own file under an empty name, and by their names
        those beside it in which some of its levels lie."""
        from volvex.asset.picture.own_layout import LayoutForm

        return self.form.files(picture) if isinstance(self.form, LayoutForm) else {"": self.form.write(picture)}

    @property
    def beside(self) -> tuple[str, ...]:
        """The names of the files beside it in which some of its levels lie."""
        stored = self.picture.extra.get("stored")
        return tuple(name for name in stored.data if name) if stored is not None else ()


def is_picture(kind: str) -> bool:
    """Whether a type of files is a picture of an open form."""
    return kind in by_kind()


def may_be_picture(kind: str) -> bool:
    """Whether files of a type are pictures, or may be one of a game's own."""
    return kind in by_kind() or kind == "binary"


def form_in(source: Source, library: Library | None = None, layout: Layout | None = None) -> PictureFormat | None:
    """The form of the picture in some bytes; None when they are none."""
    kind = filetypes.kind_by_content(source.peek(0, filetypes.HEAD)) if layout is None else ""
    if kind in by_kind():
        return by_kind()[kind]
    own = own_layout(source, TEXTURE, library, layout)
    if own is None:
        return None
    from volvex.asset.picture.own_layout import LayoutForm

    return LayoutForm(own)


def open_picture(source: Source, library: Library | None = None, layout: Layout | None = None) -> OpenedPicture | None:
    """The picture in some bytes; None when they are none. FormatError when they are damaged.

    The library knows layouts of games' own formats, and what the channels of a picture mean.
    """
    form = form_in(source, library, layout)
    if form is None:
        return None
    words = library.pictured(source.name) if library is not None else ""
    picture = form.read(source)
    if picture.palette is not None and not len(picture.palette):
        raise FormatError(source.name, "its palette has no colours", hint=FRESH)
    return OpenedPicture(with_roles(picture, source.name, words), form)


def require_picture(source: Source, library: Library | None = None, layout: Layout | None = None) -> OpenedPicture:
    """The same; UsageError when the bytes are no picture."""
    found = open_picture(source, library, layout)
    if found is None:
        kind = filetypes.kind_by_content(source.peek(0, filetypes.HEAD))
        raise UsageError(f"{source.name} is no picture, but {kind}", "`volvex identify` for what it is")
    return found


def with_roles(picture: Picture, path: str, words: str = "") -> Picture:
    """A picture with what its channels mean, as the game description says it, or as its name suggests."""
    return replace(picture, roles=roles_of(path, words))
