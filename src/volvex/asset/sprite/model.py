"""A frame of a sprite sheet, and the fields of its list that store its properties."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

YES = ("true", "yes", "y", "1", "90")


@dataclass(frozen=True)
class ListField:
    """A field of a list: which properties of a frame it stores, its text, and how the text is made."""

    field: str
    what: tuple[str, ...]
    text: str
    write: Callable[[Frame], str]


@dataclass(frozen=True)
class Frame:
    """One sprite. `width` and `height` are upright; it lies in the sheet turned by 90 degrees clockwise when `turned`.

    `left`, `top`: where what is in the sheet lies in the whole sprite of `whole_width` x `whole_height`. `sheet` and
    `key`: the record of the list; `fields`: its fields, and `alone` whether the record has this frame only.
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
    fields: tuple[ListField, ...] = ()
    alone: bool = True
    page: str = ""  # the picture that it is in, or its number, where the list has several

    @property
    def box(self) -> tuple[int, int, int, int]:
        """Left, top, width and height in the sheet."""
        return (self.x, self.y, self.height, self.width) if self.turned else (self.x, self.y, self.width, self.height)

    @property
    def can_trim(self) -> bool:
        """Whether the list can store that a sprite is trimmed."""
        return {"left", "top", "whole_width", "whole_height"} <= self.properties

    @property
    def properties(self) -> set[str]:
        """The properties that the list stores."""
        return {what for field in self.fields for what in field.what}


def grid_frames(width: int, height: int, cell: tuple[int, int], margin: int = 0, spacing: int = 0) -> list[Frame]:
    """The frames of a sheet without a list: cells of one size, row by row; `margin` around all, `spacing` between."""
    found = []
    for row, y in enumerate(range(margin, height - cell[1] - margin + 1, cell[1] + spacing)):
        for column, x in enumerate(range(margin, width - cell[0] - margin + 1, cell[0] + spacing)):
            found.append(Frame(f"{row:02}-{column:02}", x, y, *cell, whole_width=cell[0], whole_height=cell[1]))
    return found


def page_names(frames: Sequence[Frame]) -> list[str]:
    """What the pages of a list are called, or their numbers; each once."""
    return list(dict.fromkeys(frame.page for frame in frames if frame.page))


def on_page(frames: list[Frame], image: str) -> list[Frame]:
    """The frames that lie in a picture of that file name: all of them, when the list has one page."""
    pages = page_names(frames)
    if len(pages) < 2:
        return frames
    stem = image.rpartition(".")[0]
    number = re.search(r"[0-9]+$", stem)
    own = {image, stem, *([number[0].lstrip("0") or "0"] if number else [])}
    found = {
        page for page in pages if page.rpartition("/")[2] in own or page.rpartition("/")[2].rpartition(".")[0] == stem
    }
    return [frame for frame in frames if frame.page in found]
