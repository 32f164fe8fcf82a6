"""Palettes that are kept: new colours take free entries, or become the nearest that there is."""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.asset.picture.model import Picture
from volvex.codec.pixels.format import Pixels

TOLD = 8  # replaced colours that are listed


def to_palette(
    picture: Picture, pixels: Pixels, mask: Any, colours: Pixels, palette: Any
) -> tuple[Pixels, Any, list[str]]:
    """The numbers for changed pixels: an array of n x 1, the palette with new colours in entries that nothing uses
    (unless it is kept), and what was replaced.

    `colours`: red, green, blue and alpha of the pixels that `mask` has.
    """
    wanted, back = np.unique(colours, axis=0, return_inverse=True)
    palette, size = palette.copy(), 1 << picture.format.bits
    used = np.zeros(max(size, len(palette)), bool)
    for image in range(picture.images):
        for level in range(picture.levels):
            own = pixels if not level and not image else picture.pixels(level, image)
            kept = own[~mask] if own is pixels else own
            used[np.unique(kept)] = True
    known = {tuple(colour): number for number, colour in reversed(list(enumerate(palette.tolist())))}
    free = [number for number in range(len(palette)) if not used[number] and not picture.palette_kept]
    numbers, replaced = np.zeros(len(wanted), np.int64), list[str]()
    for place, colour in enumerate(wanted.tolist()):
        number = known.get(tuple(colour))
        if number is not None:
            used[number] = True
            free = [one for one in free if one != number]
        elif free:
            number = free.pop(0)
            palette[number] = colour
            known[tuple(colour)] = number
        else:
            number = int(((palette.astype(np.int32) - colour) ** 2).sum(axis=1).argmin())
            replaced.append(f"{_hex(colour)} became {_hex(palette[number].tolist())}")
        numbers[place] = number
    why = "the palette is of other pictures too" if picture.palette_kept else "no room in the palette"
    notes = [f"{why}: {one}" for one in replaced[:TOLD]]
    if len(replaced) > TOLD:
        notes.append(f"and {len(replaced) - TOLD} more colours became the nearest in the palette")
    return numbers[back.reshape(-1)].astype(np.uint8)[:, None], palette, notes


def new_palette(rgba: Pixels, size: int) -> tuple[Pixels, Any, int]:
    """A palette of at most `size` colours for pixels of red, green, blue and alpha: their numbers (height x width x 1),
    the colours, and how many colours the pixels had. When these are too many they become the nearest of those that
    Pillow's octree gives."""
    flat = rgba.reshape(-1, 4)
    colours, back = np.unique(flat, axis=0, return_inverse=True)
    had = len(colours)
    if had > size:
        from PIL import Image

        image = Image.fromarray(rgba, "RGBA").quantize(size, method=Image.Quantize.FASTOCTREE, dither=Image.Dither.NONE)
        colours = np.frombuffer(image.palette.tobytes() if image.palette else b"", np.uint8).reshape(-1, 4)
        back = np.asarray(image).reshape(-1)
    palette = np.zeros((size, 4), np.uint8)
    palette[:, 3] = 255
    palette[: len(colours)] = colours[:size]
    return back.reshape(*rgba.shape[:2], 1).astype(np.uint8), palette, had


def _hex(colour: list[int]) -> str:
    return "#" + "".join(f"{one:02x}" for one in colour[: 3 if colour[3] == 255 else 4])
