"""Jenkins's one-at-a-time (Dr. Dobb's Journal, September 1997)."""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.checksums import ChecksumStream, Loop, hashed
from volvex.codec.parameters import Parameter

PARAMETERS = {"start": Parameter(0, numbers=(0, (1 << 32) - 1))}


def _step(state: Any, byte: Any, table: Any) -> Any:
    h = np.uint32(state) + np.uint32(byte)
    h = np.uint32(h + np.uint32(h << np.uint32(10)))
    return np.uint64(np.uint32(h ^ (h >> np.uint32(6))))


def _end(state: Any, table: Any) -> Any:
    h = np.uint32(state)
    h = np.uint32(h + np.uint32(h << np.uint32(3)))
    h = np.uint32(h ^ (h >> np.uint32(11)))
    return np.uint64(np.uint32(h + np.uint32(h << np.uint32(15))))


def make(start: int) -> ChecksumStream:
    return hashed(32, Loop(_step, _end, start))
