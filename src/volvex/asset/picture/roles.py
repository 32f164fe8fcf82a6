"""What the channels of a picture mean: by the game description, or by its name."""

from __future__ import annotations

import functools
import re
from dataclasses import dataclass

from volvex.errors import UsageError

COLOUR, ALPHA, NORMAL, GLOSS, MASK, DATA = "colour", "alpha", "normal", "gloss", "mask", "data"


@dataclass(frozen=True)
class Roles:
    """What the channels of a picture mean: the first three together, and the fourth; `guessed` when no description
    gives it."""

    colour: str = COLOUR
    alpha: str = ALPHA
    guessed: bool = True


DEFAULT = Roles()

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
