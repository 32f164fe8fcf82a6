"""sdbm, a byte at a time: h x 65599 + byte."""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.checksums import ChecksumStream, Loop, as_it_is, hashed
from volvex.codec.parameters import Parameter

PARAMETERS = {"bits": Parameter(32, numbers=(32, 64)), "start": Parameter(0, numbers=(0, (1 << 64) - 1))}


def _step(state: Any, byte: Any, table: Any) -> Any:
    return state * np.uint64(65599) + byte


def make(bits: int, start: int) -> ChecksumStream:
    return hashed(bits, Loop(_step, as_it_is, start))
