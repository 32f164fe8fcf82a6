"""The order in which pixels (or blocks) of a surface lie: row by row, along a Morton curve, tile by tile; and how
levels follow each other.

A pixel format of a layout is written with it: `rgba8(order morton)`, `bc3(levels smallest)`, `pal8(order tiles,
tile_width 8)`.
"""

from __future__ import annotations

import functools
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from volvex.codec.parameters import Parameter, parse_spec, settled
from volvex.codec.pixels.format import FORMATS, PixelFormat
from volvex.errors import UsageError

PARAMETERS = {
    "order": Parameter("rows", words=("rows", "morton", "tiles")),
    "tile_width": Parameter(8, numbers=(1, 1 << 12)),
    "tile_height": Parameter(8, numbers=(1, 1 << 12)),
    "inside": Parameter("rows", words=("rows", "morton")),
    "origin": Parameter("top", words=("top", "bottom")),
    "levels": Parameter("largest", words=("largest", "smallest")),
    "images": Parameter("outer", words=("outer", "inner")),
    "row_align": Parameter(1, numbers=(1, 1 << 12)),
    "level_align": Parameter(1, numbers=(1, 1 << 16)),
}


@dataclass(frozen=True)
class PixelLayout:
    """A pixel format and how its units (pixels, or blocks) lie in a file.

    `inside`: how those of a tile lie. `images`: whether each image has all its levels together (`outer`), or each level
    all its images. `row_align`, `level_align`: the bytes to whose multiples rows and levels are filled up.
    """

    format: PixelFormat
    order: str = "rows"
    tile_width: int = 8
    tile_height: int = 8
    inside: str = "rows"
    origin: str = "top"
    levels: str = "largest"
    images: str = "outer"
    row_align: int = 1
    level_align: int = 1

    def stored_size(self, width: int, height: int) -> int:
        """The bytes of a surface in the file, without what aligns the next."""
        across, down = self._grid(width, height)
        row = (across * self.format.bits + 7) // 8
        return (row + -row % self.row_align) * down

    def _grid(self, width: int, height: int) -> tuple[int, int]:
        """How many units lie across and down, those that only fill up included."""
        across, down = self.format.blocks(width, height)
        if self.order == "tiles":
            return across + -across % self.tile_width, down + -down % self.tile_height
        if self.order == "morton":
            return 1 << max(0, across - 1).bit_length(), 1 << max(0, down - 1).bit_length()
        return across, down

    def plain(self, data: bytes, width: int, height: int) -> bytes:
        """A surface row by row from the top, without padding, from its stored bytes."""
        across, down = self.format.blocks(width, height)
        row = self.format.row(width)
        if self.order == "rows":
            if self.row_align == 1 and self.origin == "top":
                return bytes(data)
            rows = np.frombuffer(data, np.uint8).reshape(down, row + -row % self.row_align)[:, :row]
            return bytes((rows[::-1] if self.origin == "bottom" else rows).tobytes())
        units, grid = self._units(data), self._grid(width, height)
        blocks = units[self._index(*grid)].reshape(grid[1], grid[0], -1)[:down, :across]
        return bytes((blocks[::-1] if self.origin == "bottom" else blocks).tobytes())

    def stored(self, data: bytes, width: int, height: int, before: bytes) -> bytes:
        """The other direction; bytes that no pixel has are as they were `before`."""
        across, down = self.format.blocks(width, height)
        row = self.format.row(width)
        if self.order == "rows":
            if self.row_align == 1 and self.origin == "top":
                return bytes(data)
            out = self._before(before, width, height).reshape(down, -1)
            rows = np.frombuffer(data, np.uint8).reshape(down, row)
            out[:, :row] = rows[::-1] if self.origin == "bottom" else rows
            return out.tobytes()
        grid = self._grid(width, height)
        units, index = self._units(self._before(before, width, height).tobytes()).copy(), self._index(*grid)
        blocks = np.frombuffer(data, np.uint8).reshape(down, across, -1)
        places = index.reshape(grid[1], grid[0])[:down, :across]
        units[places] = blocks[::-1] if self.origin == "bottom" else blocks
        return units.tobytes()

    def _before(self, before: bytes, width: int, height: int) -> NDArray[Any]:
        size = self.stored_size(width, height)
        return np.frombuffer(bytes(before[:size]).ljust(size, b"\0"), np.uint8).copy()

    def _units(self, data: bytes) -> NDArray[Any]:
        return np.frombuffer(data, np.uint8).reshape(-1, self.format.bits // 8)

    def _index(self, across: int, down: int) -> NDArray[Any]:
        """Where in the file each unit of the rows lies."""
        if self.order == "morton":
            return _morton(across, down)
        y, x = np.divmod(np.arange(across * down), across)
        wide, high = self.tile_width, self.tile_height
        tile = y // high * (across // wide) + x // wide
        inner = y % high * wide + x % wide
        return np.asarray(tile * (wide * high) + (inner if self.inside == "rows" else _morton(wide, high)[inner]))


@functools.lru_cache(8)
def _morton(across: int, down: int) -> NDArray[Any]:
    """The bits of x and y taken in turn, x first; what one has more of than the other is above."""
    y, x = np.divmod(np.arange(across * down, dtype=np.int64), across)
    out, place = np.zeros_like(x), 0
    for bit in range(max(across, down).bit_length()):
        for value, size in ((x, across), (y, down)):
            if 1 << bit < size:
                out |= (value >> bit & 1) << place
                place += 1
    return out


@functools.lru_cache(256)
def pixel_layout(text: str) -> PixelLayout:
    """The format and order that a layout writes as `bc3(levels smallest)`; UsageError when there is none."""
    spec = parse_spec(text)
    form = FORMATS.get(spec.name)
    if form is None:
        raise UsageError(f"there is no pixel format {spec.name}", f"one of {', '.join(FORMATS)}")
    values: dict[str, Any] = settled(spec, PARAMETERS)
    made = PixelLayout(form, **values)
    if made.order != "rows" and form.bits % 8:
        raise UsageError(f"pixels of {form.bits} bits lie row by row", "order rows")
    if made.inside != "rows" and made.order != "tiles":
        raise UsageError("only a tile has an order inside", "order tiles")
    if made.order != "rows" and made.row_align != 1:
        raise UsageError("only rows are filled up to a multiple", "order rows")
    return made
