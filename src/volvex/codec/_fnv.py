"""What FNV-1 and FNV-1a share: their start values and primes (RFC 9923)."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from volvex.codec.checksums import ChecksumStream, Loop, as_it_is, hashed
from volvex.codec.parameters import Parameter

PARAMETERS = {"bits": Parameter(32, numbers=(32, 64)), "start": Parameter(-1, numbers=(0, (1 << 64) - 1))}
_START = {32: 0x811C9DC5, 64: 0xCBF29CE484222325}
_PRIME = {32: 0x01000193, 64: 0x00000100000001B3}


def fnv(step: Callable[[Any, Any, Any], Any], bits: int, start: int) -> ChecksumStream:
    """The hash whose step is `step(state, byte, table)`, with the prime as the table's first number."""
    width = 64 if bits > 32 else 32
    return hashed(bits, Loop(step, as_it_is, start if start >= 0 else _START[width], (_PRIME[width],)))
