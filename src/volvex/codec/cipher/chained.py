"""Exclusive-or with the stored byte before, the first with the key."""

from __future__ import annotations

import numpy as np

from volvex.codec.compiled import as_array
from volvex.codec.parameters import Parameter

PARAMETERS = {"key": Parameter(sizes=(1, 2, 4, 8))}  # its first byte is the start


class _Chain:
    unit, pads = 1, False

    def __init__(self, start: int) -> None:
        self._start = start

    def decrypt(self) -> _Decrypting:
        return _Decrypting(self._start)

    def encrypt(self) -> _Encrypting:
        return _Encrypting(self._start)


class _Decrypting:
    def __init__(self, start: int) -> None:
        self._before = start

    def update(self, data: bytes) -> bytes:
        if not data:
            return b""
        stored = as_array(data)
        before = np.concatenate([np.array([self._before], np.uint8), stored[:-1]])
        self._before = data[-1]
        return bytes(np.bitwise_xor(stored, before).tobytes())

    def finish(self) -> bytes:
        return b""


class _Encrypting(_Decrypting):
    def update(self, data: bytes) -> bytes:
        if not data:
            return b""
        bare = as_array(data).copy()
        bare[0] ^= self._before
        stored = np.bitwise_xor.accumulate(bare)
        self._before = int(stored[-1])
        return stored.tobytes()


def make(key: bytes) -> _Chain:
    return _Chain(key[0])
