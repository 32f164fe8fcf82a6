"""Jenkins's one-at-a-time (Dr. Dobb's Journal, September 1997)."""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.compiled import Compiled
from volvex.codec.parameters import Parameter
from volvex.codec.sums import Sealing, hashed

PARAMETERS = {"start": Parameter(0, numbers=(0, (1 << 32) - 1))}


@Compiled
def _step(data: Any, state: Any) -> Any:
    h = np.uint32(state & np.uint64(0xFFFFFFFF))
    for at in range(len(data)):
        h = np.uint32(h + data[at])
        h = np.uint32(h + np.uint32(h << np.uint32(10)))
        h = np.uint32(h ^ (h >> np.uint32(6)))
    return np.uint64(h)


def _end(h: int) -> int:
    h = (h + (h << 3)) & 0xFFFFFFFF
    h ^= h >> 11
    return (h + (h << 15)) & 0xFFFFFFFF


def make(start: int) -> Sealing:
    return hashed(32, _step, start, _end)
