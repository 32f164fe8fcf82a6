"""Which picture some bytes are: of an open form by their type, of the game's own by a layout; and what its channels mean."""

from __future__ import annotations

import functools
import re
from collections.abc import Callable
from dataclasses import dataclass, replace

from volvex.archive.detect import filetypes
from volvex.asset.forms import PictureForm, by_kind
from volvex.asset.picture import ALPHA, COLOUR, DATA, GLOSS, MASK, NORMAL, Picture, Roles
from volvex.errors import UsageError
from volvex.source import Source

GUESSES = (  # names that say what a picture is, in the habits of the trade
    (re.compile(r"[_-](n|nrm|nor|norm|normal|normals|bump|ddn|nm)$"), Roles(NORMAL, DATA)),
    (re.compile(r"[_-](s|spec|specular|g|gloss|rough|roughness|r|ao|occlusion|h|height|disp)$"), Roles(DATA, DATA)),
    (re.compile(r"[_-](m|msk|mask|metal|metallic|orm|rma)$"), Roles(MASK, DATA)),
)
WORDS = {  # in game descriptions
    "colour": Roles(COLOUR, ALPHA, False),
    "colour and gloss": Roles(COLOUR, GLOSS, False),
    "colour and mask": Roles(COLOUR, MASK, False),
    "colour and data": Roles(COLOUR, DATA, False),
    "normal": Roles(NORMAL, DATA, False),
    "normal and gloss": Roles(NORMAL, GLOSS, False),
    "mask": Roles(MASK, DATA, False),
    "data": Roles(DATA, DATA, False),
}

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


def roles_of(path: str, words: str = "") -> Roles:
    """What the channels of a picture at a path mean."""
    if words:
        found = WORDS.get(words)
        if found is None:
            raise UsageError(
                f"{words!r} is nothing that the channels of a picture can mean", f"one of {', '.join(WORDS)}"
            )
        return found
    return _guessed(path.rpartition("/")[2].rpartition(".")[0].lower())


@functools.lru_cache(1024)
def _guessed(stem: str) -> Roles:
    return next((roles for pattern, roles in GUESSES if pattern.search(stem)), Roles())
