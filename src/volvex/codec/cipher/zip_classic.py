"""The traditional cipher of ZIP archives (APPNOTE 6.3.10, section 6.1): three numbers stirred by each byte.

It is weak, and old archives have it. What it yields depends on every byte before, so that it runs one byte at a time.
"""

from __future__ import annotations

import functools
from typing import Any

import numpy as np

from volvex.codec.compiled import Compiled, as_array
from volvex.codec.parameters import Parameter

PARAMETERS = {"key": Parameter(sizes=())}
_U, _FACTOR = np.uint32, np.uint32(134775813)


class Classic:
    unit, pads = 1, False

    def __init__(self, key: bytes) -> None:
        self._key = key

    def decrypt(self) -> _Stirred:
        return _Stirred(self._key, False)

    def encrypt(self) -> _Stirred:
        return _Stirred(self._key, True)


def make(key: bytes) -> Classic:
    return Classic(key)


class _Stirred:
    """The cipher at work on one stretch of bytes."""

    def __init__(self, key: bytes, encrypts: bool) -> None:
        self._encrypts = encrypts
        self._state = np.array([0x12345678, 0x23456789, 0x34567890], np.uint32)
        _encrypted(as_array(key), self._state, _table())

    def update(self, data: bytes) -> bytes:
        run = _encrypted if self._encrypts else _decrypted
        out: bytes = run(as_array(data), self._state, _table()).tobytes()
        return out

    def finish(self) -> bytes:
        return b""


@functools.cache
def _table() -> Any:
    """CRC-32 of each byte (polynomial EDB88320)."""
    table = np.arange(256, dtype=np.uint32)
    for _ in range(8):
        table = np.where(table & 1, (table >> 1) ^ np.uint32(0xEDB88320), table >> 1).astype(np.uint32)
    return table


def _encrypt(data: Any, state: Any, table: Any) -> Any:
    """Bare bytes in; the same loop as below but for which of the two bytes stirs."""
    out = np.empty(len(data), np.uint8)
    one, two, three = _U(state[0]), _U(state[1]), _U(state[2])
    for index in range(len(data)):
        bare = _U(data[index])
        mixed = _U(three | _U(2))
        out[index] = _U(bare ^ _U(_U(_U(mixed * _U(mixed ^ _U(1))) >> _U(8)) & _U(255)))
        grown = _U(_U(two * _FACTOR) + _U(1))
        one = _U(table[_U(one ^ bare) & _U(255)] ^ _U(one >> _U(8)))
        two = _U(grown + _U(_U(one & _U(255)) * _FACTOR))
        three = _U(table[_U(three ^ _U(two >> _U(24))) & _U(255)] ^ _U(three >> _U(8)))
    state[0], state[1], state[2] = one, two, three
    return out


def _decrypt(data: Any, state: Any, table: Any) -> Any:
    """Encrypted bytes in. Each byte must wait for the one before, which is what limits it."""
    out = np.empty(len(data), np.uint8)
    one, two, three = _U(state[0]), _U(state[1]), _U(state[2])
    for index in range(len(data)):
        mixed = _U(three | _U(2))
        bare = _U(_U(data[index]) ^ _U(_U(_U(mixed * _U(mixed ^ _U(1))) >> _U(8)) & _U(255)))
        out[index] = bare
        grown = _U(_U(two * _FACTOR) + _U(1))  # does not wait for the byte
        one = _U(table[_U(one ^ bare) & _U(255)] ^ _U(one >> _U(8)))
        two = _U(grown + _U(_U(one & _U(255)) * _FACTOR))
        three = _U(table[_U(three ^ _U(two >> _U(24))) & _U(255)] ^ _U(three >> _U(8)))
    state[0], state[1], state[2] = one, two, three
    return out


_encrypted, _decrypted = Compiled(_encrypt), Compiled(_decrypt)
