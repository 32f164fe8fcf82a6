"""A frame of a sprite sheet, and what of it a list of frames says in which field."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

YES = ("true", "yes", "y", "1", "90")


@dataclass(frozen=True)
class Told:
    """A field of a list: what of a frame it tells, the text it has now, and how the text is made."""

    field: str
    what: tuple[str, ...]
    text: str
    write: Callable[[Frame], str]


@dataclass(frozen=True)
class Frame:
    """One sprite. `width` and `height` are upright; it lies in the sheet turned by 90 degrees clockwise when `turned`.

    `left`, `top`: where what is in the sheet lies in the whole sprite of `whole_width` x `whole_height`. `sheet` and `key`: the record
    of the list; `told`: its fields, and `alone` whether the record has this frame only.
    """

    name: str
    x: int
    y: int
    width: int
    height: int
    turned: bool = False
    left: int = 0
    top: int = 0
    whole_width: int = 0
    whole_height: int = 0
    sheet: str = ""
    key: str = ""
    told: tuple[Told, ...] = ()
    alone: bool = True

    @property
    def box(self) -> tuple[int, int, int, int]:
        """Left, top, width and height in the sheet."""
        return (self.x, self.y, self.height, self.width) if self.turned else (self.x, self.y, self.width, self.height)

    @property
    def can_trim(self) -> bool:
        """Whether the list can say that a sprite is trimmed."""
        return {"left", "top", "whole_width", "whole_height"} <= self.says

    @property
    def says(self) -> set[str]:
        """What the list tells of the frame."""
        return {what for one in self.told for what in one.what}


def grid_frames(width: int, height: int, cell: tuple[int, int], margin: int = 0, spacing: int = 0) -> list[Frame]:
    """The frames of a sheet without a list: cells of one size, row by row; `margin` around all, `spacing` between."""
    found = []
    for row, y in enumerate(range(margin, height - cell[1] - margin + 1, cell[1] + spacing)):
        for column, x in enumerate(range(margin, width - cell[0] - margin + 1, cell[0] + spacing)):
            found.append(Frame(f"{row:02}-{column:02}", x, y, *cell, whole_width=cell[0], whole_height=cell[1]))
    return found
