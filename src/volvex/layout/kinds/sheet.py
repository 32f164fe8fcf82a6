"""Sprite sheets: the frames of a picture, each with its name, its rectangle, and what was trimmed from it."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.layout.kinds._data import DataKind, Problem, roles_of_rows
from volvex.layout.model import Layout

X, Y, WIDTH, HEIGHT, RIGHT, BOTTOM, PAGE = RECTANGLE = ("left", "top", "width", "height", "right", "bottom", "page")
TURNED, LEFT, TOP, WHOLE_WIDTH, WHOLE_HEIGHT = TRIMMED = (
    "turned",
    "trimmed left",
    "trimmed top",
    "whole width",
    "whole height",
)
NAME, IMAGE = "name", "image"
PAIRS = ((X,), (Y,), (WIDTH, RIGHT), (HEIGHT, BOTTOM))


def check_rectangles(layout: Layout) -> Iterator[Problem]:
    """What every list of rectangles needs: a corner, and a size or the other corner; one block of them."""
    found = list(roles_of_rows(layout))
    for block, roles in found:
        for pair in PAIRS:
            if sum(roles.count(role) for role in pair) != 1:
                wanted = " or ".join(f"`{role}`" for role in pair)
                yield block.place, f"a record of {block.name} has one field {wanted}", f"u16  {pair[0]}"
        for role in set(roles) - {"value", "hidden"}:
            if roles.count(role) > 1:
                yield block.place, f"{block.name} has two fields for the {role}", "`value`"
    for block, _ in found[1:]:
        yield block.place, f"a second row of frames, {block.name}", "`kept` for its fields"


DATA_KIND = DataKind(("id", NAME, IMAGE, *RECTANGLE, *TRIMMED, "value", "hidden"), check_rectangles)
