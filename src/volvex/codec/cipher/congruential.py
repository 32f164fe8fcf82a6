"""XOR with the bytes of a linear congruential generator: n becomes n x times + plus, modulo a power of two."""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.cipher._generated import Generated
from volvex.codec.compiled import Compiled
from volvex.codec.parameters import Parameter

_NUMBER = (0, (1 << 63) - 1)
PARAMETERS = {
    "key": Parameter(sizes=()),  # the first number, its lowest byte first
    "bits": Parameter(32, numbers=(8, 64)),
    "times": Parameter(1103515245, numbers=_NUMBER),
    "plus": Parameter(12345, numbers=_NUMBER),
    "shift": Parameter(16, numbers=(0, 63)),  # what is given are the bits from here on
    "size": Parameter(1, numbers=(1, 8)),  # so many bytes of each number, the lowest first
    "order": Parameter("step", words=("step", "give")),  # what comes first
}
_U = np.uint64


def make(key: bytes, bits: int, times: int, plus: int, shift: int, size: int, order: str) -> Generated:
    mask = (1 << bits) - 1
    return Generated(key, (mask, times & mask, plus & mask, shift, size, int(order == "step")), _filled)


def _fill(out: Any, state: Any, numbers: Any) -> None:
    mask, times, plus, shift, size, first = numbers[0], numbers[1], numbers[2], numbers[3], numbers[4], numbers[5]
    number, given = state[0] & mask, state[1]
    for index in range(len(out)):
        if given == _U(0) and first:
            number = (number * times + plus) & mask
        out[index] = np.uint8((number >> (shift + _U(8) * given)) & _U(255))
        given += _U(1)
        if given == size:
            given = _U(0)
            if not first:
                number = (number * times + plus) & mask
    state[0], state[1] = number, given


_filled = Compiled(_fill)
