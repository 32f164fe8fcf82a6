"""Two states of a picture side by side, and the pixels that differ."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PIL import Image

from volvex.asset.picture.model import Picture
from volvex.asset.picture.put_back import differing
from volvex.asset.sheet import BACK, Cell, drawn, small
from volvex.codec.pixels.format import Pixels

EDGE = 400  # pixels of each of the three
MARK = (255, 60, 60, 255)


def differing_pixels(before: Picture, after: Picture) -> int | None:
    """How many pixels differ; None when the sizes do."""
    if (before.width, before.height) != (after.width, after.height):
        return None
    return int(np.count_nonzero(differing(before.rgba(), after.rgba())))


def side_by_side(before: Picture, after: Picture, title: str) -> Image.Image:
    """Before, after, and after with the pixels that differ marked."""
    old, new = before.seen(), after.seen()
    trio = [("before", old), ("after", new)]
    if old.shape == new.shape:
        mask = differing(before.rgba(), after.rgba())
        trio.append((f"{int(np.count_nonzero(mask)):,} pixels differ", _marked(new, mask)))
    cells = [Cell(small(pixels, EDGE), words, "") for words, pixels in trio]
    return drawn(cells, title, EDGE, len(trio))


def _marked(pixels: Pixels, mask: Pixels) -> Pixels:
    """A picture in grey, the pixels that differ in red."""
    grey = (pixels[..., :3].astype(np.uint16).mean(axis=2) / 2 + 32).astype(np.uint8)
    out = np.stack([grey, grey, grey, np.full_like(grey, 255)], axis=2)
    out[mask] = MARK
    return out


def stacked(rows: Sequence[Image.Image]) -> Image.Image:
    """Pictures one below the other."""
    sheet = Image.new("RGB", (max(row.width for row in rows), sum(row.height for row in rows)), BACK)
    top = 0
    for row in rows:
        sheet.paste(row, (0, top))
        top += row.height
    return sheet
