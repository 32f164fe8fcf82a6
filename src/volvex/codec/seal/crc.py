"""Any cyclic redundancy check of 8 to 64 bits, by its parameters (Williams, "A Painless Guide to CRC Error Detection", 1993).

bits, poly   the width, and the polynomial without its highest bit
start        what the register holds at first
reflected    yes when each byte's lowest bit goes first
final        what the result is exclusive-ored with
"""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.compiled import Compiled
from volvex.codec.parameters import Parameter
from volvex.codec.sums import Sealing, hashed

_ANY = (0, (1 << 64) - 1)
PARAMETERS = {
    "bits": Parameter(32, numbers=(8, 64)),
    "poly": Parameter(numbers=_ANY),
    "start": Parameter(0, numbers=_ANY),
    "reflected": Parameter("yes", words=("yes", "no")),
    "final": Parameter(0, numbers=_ANY),
}


@Compiled
def _reflected(data: Any, state: Any, table: Any) -> Any:
    for at in range(len(data)):
        state = (state >> np.uint64(8)) ^ table[(state ^ data[at]) & np.uint64(255)]
    return state


@Compiled
def _straight(data: Any, state: Any, table: Any) -> Any:
    for at in range(len(data)):  # the register stands at the top of 64 bits, whatever its width
        state = (state << np.uint64(8)) ^ table[(state >> np.uint64(56)) ^ data[at]]
    return state


def _turned(number: int, bits: int) -> int:
    return int(f"{number:0{bits}b}"[::-1], 2)


def _table(bits: int, poly: int, reflected: bool) -> Any:
    table = []
    for byte in range(256):
        state = byte if reflected else byte << 56
        for _ in range(8):
            if reflected:
                state = (state >> 1) ^ (_turned(poly, bits) if state & 1 else 0)
            else:
                state = ((state << 1) ^ (poly << (64 - bits) if state >> 63 else 0)) & ((1 << 64) - 1)
        table.append(state)
    return np.array(table, np.uint64)


def make(bits: int, poly: int, start: int, reflected: str, final: int) -> Sealing:
    mask, turned = (1 << bits) - 1, reflected == "yes"
    table = _table(bits, poly & mask, turned)
    if turned:
        return hashed(
            bits,
            lambda data, state: _reflected(data, state, table),
            _turned(start & mask, bits),
            lambda state: (state ^ final) & mask,
        )
    shift = 64 - bits
    return hashed(bits, lambda data, state: _straight(data, state, table), (start & mask) << shift,
                  lambda state: ((state >> shift) ^ final) & mask)  # fmt: skip
