"""The outline of a sound: how far its samples reach, in as many columns as there is room for."""

from __future__ import annotations

import numpy as np

from volvex.codec.samples import Samples
from volvex.codec.samples.convert import as_floats

BLOCKS = " ▁▂▃▄▅▆▇█"
Reach = list[tuple[float, float]]  # of each column: the lowest and the highest sample, from -1 to 1


def reach_of(samples: Samples, columns: int) -> Reach:
    """How far the samples of one channel reach in each of some columns."""
    values = np.nan_to_num(as_floats(samples))
    if not len(values):
        return [(0.0, 0.0)] * columns
    starts = np.linspace(0, len(values), columns, endpoint=False).astype(np.int64)
    low, high = np.minimum.reduceat(values, starts), np.maximum.reduceat(values, starts)
    return [(max(-1.0, float(a)), min(1.0, float(b))) for a, b in zip(low, high, strict=True)]


def drawn(reach: Reach, rows: int) -> list[str]:
    """The outline in lines of block characters, the upper half above the lower one."""
    half = rows // 2
    lines = [_half([max(0.0, high) for _, high in reach], half)]
    lower = _half([max(0.0, -low) for low, _ in reach], half)
    return [*lines[0], *(line.translate(UNDER) for line in reversed(lower))]


UNDER = str.maketrans(dict(zip("▁▂▃▄▅▆▇", "▔▔▀▀▀██", strict=True)))


def _half(heights: list[float], rows: int) -> list[str]:
    """Bars that stand on the last line."""
    lines = []
    for row in range(rows):
        floor = rows - 1 - row
        eighths = (round(min(1, max(0, height * rows - floor)) * 8) for height in heights)
        lines.append("".join(BLOCKS[number] for number in eighths))
    return lines
