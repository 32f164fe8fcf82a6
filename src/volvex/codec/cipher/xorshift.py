"""XOR with the bytes of a generator that shifts and XORs its number three times (Marsaglia 2003, "Xorshift RNGs")."""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.cipher._generated import Generated
from volvex.codec.compiled import Compiled
from volvex.codec.parameters import Parameter

_SHIFT = (0, 63)
PARAMETERS = {
    "key": Parameter(sizes=()),  # the first number, its lowest byte first
    "bits": Parameter(32, numbers=(8, 64)),
    "left": Parameter(13, numbers=_SHIFT),
    "right": Parameter(17, numbers=_SHIFT),
    "again": Parameter(5, numbers=_SHIFT),  # to the left
    "size": Parameter(4, numbers=(1, 8)),  # so many bytes of each number, the lowest first
    "order": Parameter("step", words=("step", "give")),  # what comes first
}
_U = np.uint64


def make(key: bytes, bits: int, left: int, right: int, again: int, size: int, order: str) -> Generated:
    return Generated(key, ((1 << bits) - 1, left, right, again, size, int(order == "step")), _filled)


def _fill(out: Any, state: Any, numbers: Any) -> None:
    mask, left, right, again, size, first = numbers[0], numbers[1], numbers[2], numbers[3], numbers[4], numbers[5]
    number, given = state[0] & mask, state[1]
    for index in range(len(out)):
        if given == _U(0) and first:
            number ^= (number << left) & mask
            number ^= number >> right
            number ^= (number << again) & mask
        out[index] = np.uint8((number >> (_U(8) * given)) & _U(255))
        given += _U(1)
        if given == size:
            given = _U(0)
            if not first:
                number ^= (number << left) & mask
                number ^= number >> right
                number ^= (number << again) & mask
    state[0], state[1] = number, given


_filled = Compiled(_fill)
