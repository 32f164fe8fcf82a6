"""Exclusive-or with a key that repeats."""

from volvex.codec.ciphers import KEY, Bytewise, repeated
from volvex.codec.compiled import Bytes, as_array

PARAMETERS = {"key": KEY}


def make(key: bytes) -> Bytewise:
    pattern = as_array(key)

    def mask(data: Bytes, at: int) -> Bytes:
        return data ^ repeated(pattern, len(data), at)

    return Bytewise(mask, mask)
