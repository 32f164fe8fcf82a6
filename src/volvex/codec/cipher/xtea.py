"""XTEA (Needham and Wheeler, 1997), each block of 8 bytes by itself or in a chain."""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.ciphers import TAIL, Blockwise
from volvex.codec.compiled import Compiled
from volvex.codec.parameters import Parameter

PARAMETERS = {
    "key": Parameter(sizes=(16,)),
    "rounds": Parameter(32, numbers=(1, 255)),
    "order": Parameter("little", words=("little", "big")),
    "mode": Parameter("ecb", words=("ecb", "cbc")),
    "iv": Parameter(bytes(8), sizes=(8,)),
    "tail": TAIL,
}


@Compiled
def _encrypt(words: Any, schedule: Any, chained: bool, before: Any) -> None:
    mask, four, five = np.uint64(0xFFFFFFFF), np.uint64(4), np.uint64(5)
    for at in range(0, len(words), 2):
        a, b = np.uint64(words[at]), np.uint64(words[at + 1])
        if chained:
            a, b = a ^ before[0], b ^ before[1]
        for turn in range(0, len(schedule), 2):
            a = (a + ((((b << four) ^ (b >> five)) + b) ^ schedule[turn])) & mask
            b = (b + ((((a << four) ^ (a >> five)) + a) ^ schedule[turn + 1])) & mask
        words[at], words[at + 1] = a, b
        before[0], before[1] = a, b


@Compiled
def _decrypt(words: Any, schedule: Any, chained: bool, before: Any) -> None:
    mask, four, five = np.uint64(0xFFFFFFFF), np.uint64(4), np.uint64(5)
    for start in range(0, len(words), 8):  # four blocks side by side: they do not wait for each other
        lanes = min(8, len(words) - start)
        a, b = np.zeros(4, np.uint64), np.zeros(4, np.uint64)
        for lane in range(lanes // 2):
            a[lane], b[lane] = words[start + 2 * lane], words[start + 2 * lane + 1]
        for turn in range(len(schedule) - 2, -2, -2):
            for lane in range(4):
                b[lane] = (b[lane] - ((((a[lane] << four) ^ (a[lane] >> five)) + a[lane]) ^ schedule[turn + 1])) & mask
                a[lane] = (a[lane] - ((((b[lane] << four) ^ (b[lane] >> five)) + b[lane]) ^ schedule[turn])) & mask
        for lane in range(lanes // 2):
            at = start + 2 * lane
            first, second = np.uint64(words[at]), np.uint64(words[at + 1])
            words[at], words[at + 1] = a[lane], b[lane]
            if chained:
                words[at], words[at + 1] = a[lane] ^ before[0], b[lane] ^ before[1]
            before[0], before[1] = first, second


def _schedule(key: Any, rounds: int) -> Any:
    """The number that is added in each half of each round."""
    made, total = [], 0
    for _ in range(rounds):
        made.append((total + int(key[total & 3])) & 0xFFFFFFFF)
        total = (total + 0x9E3779B9) & 0xFFFFFFFF
        made.append((total + int(key[total >> 11 & 3])) & 0xFFFFFFFF)
    return np.array(made, np.uint64)


class _Context:
    def __init__(self, loop: Compiled, key: bytes, rounds: int, order: str, chained: bool, start: bytes) -> None:
        self._form = "<u4" if order == "little" else ">u4"
        self._loop, self._chained = loop, chained
        self._schedule = _schedule(np.frombuffer(key, self._form), rounds)
        self._before = np.frombuffer(start, self._form).astype(np.uint64)

    def update(self, data: bytes) -> bytes:
        words = np.frombuffer(data, self._form).astype(np.uint32)
        self._loop(words, self._schedule, self._chained, self._before)
        return words.astype(self._form).tobytes()


def make(key: bytes, rounds: int, order: str, mode: str, iv: bytes, tail: str) -> Blockwise:
    def context(loop: Compiled) -> _Context:
        return _Context(loop, key, rounds, order, mode == "cbc", iv)

    return Blockwise(8, tail, lambda: context(_decrypt), lambda: context(_encrypt))
