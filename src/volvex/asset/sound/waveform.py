"""The outline of a sound: how far its samples reach, in as many columns as there is room for."""

from __future__ import annotations

import numpy as np

from volvex.codec.samples import Samples
from volvex.codec.samples.convert import as_floats

BLOCKS = {(False, False): " ", (True, False): "▀", (False, True): "▄", (True, True): "█"}
Reach = list[tuple[float, float]]  # of each column: the lowest and the highest sample, from -1 to 1


def reach_of(samples: Samples, columns: int) -> Reach:
    """How far the samples of one channel reach in each of some columns."""
    values = np.nan_to_num(as_floats(samples))
    if not len(values):
        return [(0.0, 0.0)] * columns
    starts = np.linspace(0, len(values), columns, endpoint=False).astype(np.int64)
    low, high = np.minimum.reduceat(values, starts), np.maximum.reduceat(values, starts)
    return [(max(-1.0, float(a)), min(1.0, float(b))) for a, b in zip(low, high, strict=True)]


def drawn(reach: Reach, rows: int, most: float = 1.0) -> list[str]:
    """The outline in lines of block characters, two steps a line; `most`: the sample that reaches its edge."""
    steps = 2 * rows
    spans = [(_step(high, steps, most), _step(low, steps, most)) for low, high in reach]  # from the upper edge down
    lines = []
    for row in range(rows):
        pairs = ((top <= 2 * row <= end, top <= 2 * row + 1 <= end) for top, end in spans)
        lines.append("".join(BLOCKS[pair] for pair in pairs))
    return lines


def _step(value: float, steps: int, most: float) -> int:
    """In which step a sample lies, the loudest in the first and the last."""
    share = (1 - max(-1.0, min(1.0, value / most))) / 2
    return min(steps - 1, int(share * steps))
