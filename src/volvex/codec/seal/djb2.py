"""djb2, a byte at a time: h x 33 + byte, or exclusive-or with it."""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.compiled import Compiled
from volvex.codec.parameters import Parameter
from volvex.codec.sums import Sealing, hashed

PARAMETERS = {
    "bits": Parameter(32, numbers=(32, 64)),
    "start": Parameter(5381, numbers=(0, (1 << 64) - 1)),
    "mix": Parameter("add", words=("add", "xor")),
}


@Compiled
def _step(data: Any, state: Any, mixed: bool) -> Any:
    for at in range(len(data)):
        state = state * np.uint64(33)
        state = state ^ data[at] if mixed else state + data[at]
    return state


def make(bits: int, start: int, mix: str) -> Sealing:
    return hashed(bits, lambda data, state: _step(data, state, mix == "xor"), start)
