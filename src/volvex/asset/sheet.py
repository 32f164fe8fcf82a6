"""Contact sheets: many pictures small, with their names below them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace

from PIL import Image, ImageDraw

from volvex.codec.pixels.format import Pixels

CELL, GAP, TEXT = 160, 12, 30  # pixels
COLUMNS, ROWS = 7, 40
BACK, FRAME, INK = (38, 40, 44), (64, 67, 72), (225, 225, 225)
CHEQUERS = ((72, 74, 78), (92, 94, 98))


@dataclass(frozen=True)
class Cell:
    """One picture of a sheet: its pixels (red, green, blue, alpha, 8 bits), two lines, and the path that the name is the end of."""

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
    """A sheet of at most `most` x ROWS pictures, each in a cell of `size` pixels."""
    columns = min(most, max(1, len(cells)))
    rows = -(-len(cells) // columns)
    text = TEXT if any(cell.name or cell.about for cell in cells) else 0
    wide, high = GAP + columns * (size + GAP), GAP + TEXT + rows * (size + text + GAP)
    sheet = Image.new("RGB", (max(wide, 420), high), BACK)
    pen = ImageDraw.Draw(sheet)
    pen.text((GAP, GAP), title, fill=INK)
    for number, cell in enumerate(cells):
        left = GAP + number % columns * (size + GAP)
        top = GAP + TEXT + number // columns * (size + text + GAP)
        _put(sheet, pen, cell, (left, top), size)
    return sheet


def _put(sheet: Image.Image, pen: ImageDraw.ImageDraw, cell: Cell, place: tuple[int, int], size: int) -> None:
    left, top = place
    pen.rectangle((left - 1, top - 1, left + size, top + size), outline=FRAME)
    image = Image.fromarray(cell.pixels).convert("RGBA")
    at = (left + (size - image.width) // 2, top + (size - image.height) // 2)
    sheet.paste(over_chequers(image), at)
    pen.text((left, top + size + 3), _cut(pen, cell.name, size), fill=INK)
    pen.text((left, top + size + 15), _cut(pen, cell.about, size), fill=(150, 152, 156))


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


def _cut(pen: ImageDraw.ImageDraw, text: str, size: int) -> str:
    """The end of a text that has room below a picture."""
    text = text.encode("latin-1", "replace").decode("latin-1")
    if pen.textlength(text) <= size:
        return text
    while text and pen.textlength(f"..{text}") > size:
        text = text[1:]
    return f"..{text}"
