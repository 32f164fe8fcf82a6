"""FNV-1a, of 32 or 64 bits (RFC 9923)."""

from __future__ import annotations

from typing import Any

from volvex.codec._fnv import PARAMETERS, fnv
from volvex.codec.compiled import Compiled
from volvex.codec.sums import Sealing

__all__ = ["PARAMETERS", "make"]


@Compiled
def _step(data: Any, state: Any, prime: Any) -> Any:
    for at in range(len(data)):
        state = (state ^ data[at]) * prime
    return state


def make(bits: int, start: int) -> Sealing:
    return fnv(_step, bits, start)
