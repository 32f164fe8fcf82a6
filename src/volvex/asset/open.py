"""Which picture some bytes are: of an open form by their type, of the game's own by a layout."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from volvex.archive.detect import filetypes
from volvex.asset.forms import PictureForm, by_kind
from volvex.asset.picture import Picture
from volvex.asset.roles import roles_of
from volvex.errors import UsageError
from volvex.source import Source

ToldRoles = Callable[[str], str]  # the words of the game description for a path; empty for none


@dataclass(frozen=True)
class Opened:
    """A picture, and what writes it again in its own form."""

    picture: Picture
    form: PictureForm


def is_picture(kind: str) -> bool:
    """Whether a type of files is a picture that can be opened."""
    return kind in by_kind()


def open_picture(source: Source, told: ToldRoles = lambda path: "") -> Opened | None:
    """The picture in some bytes; None when they are none. FormatError when they are damaged."""
    kind = filetypes.kind_by_content(source.peek(0, filetypes.HEAD))
    form = by_kind().get(kind)
    if form is None:
        return None
    return Opened(with_roles(form.read(source), source.name, told(source.name)), form)


def require_picture(source: Source, told: ToldRoles = lambda path: "") -> Opened:
    """The same; UsageError when the bytes are no picture."""
    found = open_picture(source, told)
    if found is None:
        kind = filetypes.kind_by_content(source.peek(0, filetypes.HEAD))
        raise UsageError(f"{source.name} is no picture, but {kind}", "`volvex identify` for what it is")
    return found


def with_roles(picture: Picture, path: str, words: str = "") -> Picture:
    """A picture with what its channels mean, as the game description says it, or as its name suggests."""
    return replace(picture, roles=roles_of(path, words))
