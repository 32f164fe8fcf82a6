"""sdbm, a byte at a time: h x 65599 + byte."""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.compiled import Compiled
from volvex.codec.parameters import Parameter
from volvex.codec.sums import Sealing, hashed

PARAMETERS = {"bits": Parameter(32, numbers=(32, 64)), "start": Parameter(0, numbers=(0, (1 << 64) - 1))}


@Compiled
def _step(data: Any, state: Any) -> Any:
    for at in range(len(data)):
        state = state * np.uint64(65599) + data[at]
    return state


def make(bits: int, start: int) -> Sealing:
    return hashed(bits, _step, start)
