"""Contact sheets: many pictures small, with their names below them."""

from __future__ import annotations

import functools
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from PIL import Image, ImageDraw, ImageFont

from volvex.codec.pixels.format import Pixels

CELL, GAP, TEXT = 160, 12, 30  # pixels
LETTER, FINE = 11, 4  # the size of letters, and how many times as large they are drawn
COLUMNS, ROWS = 7, 40
BACK, FRAME, INK = (38, 40, 44), (64, 67, 72), (225, 225, 225)
CHEQUERS = ((72, 74, 78), (92, 94, 98))


@dataclass(frozen=True)
class Cell:
    """One picture of a sheet: its pixels (red, green, blue, alpha, 8 bits), two lines, and the path that the name is
    the end of."""

    pixels: Pixels
    name: str
    about: str
    path: str = ""


def small(pixels: Pixels, size: int = CELL) -> Pixels:
    """A picture no larger than a cell; small ones are enlarged by whole numbers."""
    import numpy as np

    image = Image.fromarray(np.ascontiguousarray(pixels))
    largest = max(image.size)
    if largest > size:
        wide, high = (max(1, round(one * size / largest)) for one in image.size)
        image = image.reduce(max(1, largest // (size * 2))).resize((wide, high), Image.Resampling.BOX)
    elif largest * 2 <= size:
        times = size // largest
        image = image.resize((image.width * times, image.height * times), Image.Resampling.NEAREST)
    return np.asarray(image)


def distinct(cells: Sequence[Cell]) -> list[Cell]:
    """Cells whose names repeat with the folder before their name."""
    held = Counter(cell.name for cell in cells)
    return [
        replace(cell, name="/".join(cell.path.split("/")[-2:])) if cell.path and held[cell.name] > 1 else cell
        for cell in cells
    ]


def pages(count: int) -> int:
    """How many sheets so many pictures need."""
    return max(1, -(-count // (COLUMNS * ROWS)))


def drawn(cells: Sequence[Cell], title: str, size: int = CELL, most: int = COLUMNS) -> Image.Image:
    """A sheet of at most `most` x ROWS pictures, each in a cell of `size` pixels; a row is as high as its highest
    picture."""
    columns = min(most, max(1, len(cells)))
    rows = [cells[start : start + columns] for start in range(0, len(cells), columns)]
    text = TEXT if any(cell.name or cell.about for cell in cells) else 0
    heights = [max(cell.pixels.shape[0] for cell in row) for row in rows]
    wide, high = GAP + columns * (size + GAP), GAP + TEXT + sum(heights) + len(rows) * (text + GAP)
    sheet = Image.new("RGB", (max(wide, 420), high), BACK)
    write(sheet, (GAP, GAP - 2), title, INK)
    top = GAP + TEXT
    for row, height in zip(rows, heights, strict=True):
        for number, cell in enumerate(row):
            _put(sheet, cell, (GAP + number * (size + GAP), top), (size, height))
        top += height + text + GAP
    return sheet


def _put(sheet: Image.Image, cell: Cell, place: tuple[int, int], size: tuple[int, int]) -> None:
    (left, top), (wide, high) = place, size
    ImageDraw.Draw(sheet).rectangle((left - 1, top - 1, left + wide, top + high), outline=FRAME)
    image = Image.fromarray(cell.pixels).convert("RGBA")
    sheet.paste(over_chequers(image), (left + (wide - image.width) // 2, top + (high - image.height) // 2))
    write(sheet, (left, top + high + 2), _cut(cell.name, wide), INK)
    write(sheet, (left, top + high + 15), _cut(cell.about, wide), (150, 152, 156))


@functools.cache
def _font() -> Any:
    """The letters, larger than they are shown: made small afterwards they stand at their own distances, not at whole
    pixels."""
    return ImageFont.load_default(LETTER * FINE)


def write(sheet: Image.Image, place: tuple[int, int], text: str, ink: tuple[int, int, int]) -> None:
    """Write a line."""
    high = LETTER + 4
    wide = int(_font().getlength(text)) // FINE + 2
    mask = Image.new("L", (wide * FINE, high * FINE))
    ImageDraw.Draw(mask).text((0, 0), text, fill=255, font=_font())
    sheet.paste(ink, place, mask.resize((wide, high), Image.Resampling.BOX))


def over_chequers(image: Image.Image) -> Image.Image:
    """A picture over light and dark squares, where it is transparent."""
    if image.getextrema()[-1] == (255, 255):
        return image.convert("RGB")
    back = Image.new("RGBA", image.size, CHEQUERS[0])
    pen = ImageDraw.Draw(back)
    for y in range(0, image.height, 8):
        for x in range(y // 8 % 2 * 8, image.width, 16):
            pen.rectangle((x, y, x + 7, y + 7), fill=CHEQUERS[1])
    back.alpha_composite(image)
    return back.convert("RGB")


def _cut(text: str, size: int) -> str:
    """The end of a text that has room below a picture."""
    text = text.encode("latin-1", "replace").decode("latin-1")
    if _font().getlength(text) <= size * FINE:
        return text
    while text and _font().getlength(f"..{text}") > size * FINE:
        text = text[1:]
    return f"..{text}"
