"""FNV-1, of 32 or 64 bits (RFC 9923)."""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.compiled import Compiled
from volvex.codec.parameters import Parameter
from volvex.codec.sums import Sealing, hashed

PARAMETERS = {"bits": Parameter(32, numbers=(32, 64)), "start": Parameter(-1, numbers=(0, (1 << 64) - 1))}
_START = {32: 0x811C9DC5, 64: 0xCBF29CE484222325}
_PRIME = {32: 0x01000193, 64: 0x00000100000001B3}


@Compiled
def _step(data: Any, state: Any, prime: Any) -> Any:
    for at in range(len(data)):
        state = state * prime
        state = state ^ data[at]
    return state


def make(bits: int, start: int) -> Sealing:
    prime = np.uint64(_PRIME[64 if bits > 32 else 32])
    return hashed(
        bits, lambda data, state: _step(data, state, prime), start if start >= 0 else _START[64 if bits > 32 else 32]
    )
