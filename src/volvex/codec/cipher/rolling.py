"""Exclusive-or with a byte that changes after each: k becomes k x times + plus (modulo 256)."""

import numpy as np

from volvex.codec.ciphers import Bytewise, repeated
from volvex.codec.compiled import Bytes
from volvex.codec.parameters import Parameter

_BYTE = (0, 255)
PARAMETERS = {
    "key": Parameter(sizes=(1, 2, 4, 8)),  # its first byte is the start
    "times": Parameter(1, numbers=_BYTE),
    "plus": Parameter(1, numbers=_BYTE),
}


def make(key: bytes, times: int, plus: int) -> Bytewise:
    states = [key[0]]
    while (state := (states[-1] * times + plus) % 256) not in states:
        states.append(state)
    lead = states.index(state)  # the states go round from here on
    head, cycle = np.array(states[:lead], np.uint8), np.array(states[lead:], np.uint8)

    def mask(data: Bytes, at: int) -> Bytes:
        first = head[at : at + len(data)]
        rest = repeated(cycle, len(data) - len(first), max(0, at - lead))
        return np.asarray(data ^ np.concatenate([first, rest]), np.uint8)

    return Bytewise(mask, mask)
