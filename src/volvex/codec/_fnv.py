"""What FNV-1 and FNV-1a share: their start values and primes (RFC 9923)."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from volvex.codec.parameters import Parameter
from volvex.codec.sums import Sealing, hashed

PARAMETERS = {"bits": Parameter(32, numbers=(32, 64)), "start": Parameter(-1, numbers=(0, (1 << 64) - 1))}
_START = {32: 0x811C9DC5, 64: 0xCBF29CE484222325}
_PRIME = {32: 0x01000193, 64: 0x00000100000001B3}


def fnv(step: Callable[[Any, Any, Any], Any], bits: int, start: int) -> Sealing:
    """The hash whose loop is `step(data, state, prime)`."""
    width = 64 if bits > 32 else 32
    prime = np.uint64(_PRIME[width])
    return hashed(bits, lambda data, state: step(data, state, prime), start if start >= 0 else _START[width])
