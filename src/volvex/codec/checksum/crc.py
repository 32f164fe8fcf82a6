"""Any cyclic redundancy check of 8 to 64 bits, by its parameters (Williams, "A Painless Guide to CRC Error Detection",
1993).

bits, poly   the width, and the polynomial without its highest bit
start        what the register holds at first
reflected    yes when each byte's lowest bit goes first
final        what the result is XORed with
"""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.checksums import ChecksumStream, Loop, hashed
from volvex.codec.parameters import Parameter

_ANY = (0, (1 << 64) - 1)
PARAMETERS = {
    "bits": Parameter(32, numbers=(8, 64)),
    "poly": Parameter(numbers=_ANY),
    "start": Parameter(0, numbers=_ANY),
    "reflected": Parameter("yes", words=("yes", "no")),
    "final": Parameter(0, numbers=_ANY),
}


def _reflected(state: Any, byte: Any, table: Any) -> Any:
    return (state >> np.uint64(8)) ^ table[(state ^ byte) & np.uint64(255)]


def _straight(state: Any, byte: Any, table: Any) -> Any:
    return (state << np.uint64(8)) ^ table[(state >> np.uint64(56)) ^ byte]


def _end(state: Any, table: Any) -> Any:
    return (state >> table[257]) ^ table[256]


def _turned(number: int, bits: int) -> int:
    return int(f"{number:0{bits}b}"[::-1], 2)


def _table(bits: int, poly: int, reflected: bool) -> list[int]:
    table = []
    for byte in range(256):
        state = byte if reflected else byte << 56
        for _ in range(8):
            if reflected:
                state = (state >> 1) ^ (_turned(poly, bits) if state & 1 else 0)
            else:
                state = ((state << 1) ^ (poly << (64 - bits) if state >> 63 else 0)) & ((1 << 64) - 1)
        table.append(state)
    return table


def loop_of(bits: int, poly: int, start: int, reflected: bool, final: int) -> Loop:
    """The check as a loop; behind its table stand what the result is XORed with, and where it stands."""
    mask = (1 << bits) - 1
    table = _table(bits, poly & mask, reflected)
    if reflected:
        return Loop(_reflected, _end, _turned(start & mask, bits), (*table, final & mask, 0))
    shift = 64 - bits  # the register stands at the top of 64 bits, whatever its width
    return Loop(_straight, _end, (start & mask) << shift, (*table, final & mask, shift))


def make(bits: int, poly: int, start: int, reflected: str, final: int) -> ChecksumStream:
    return hashed(bits, loop_of(bits, poly, start, reflected == "yes", final))
