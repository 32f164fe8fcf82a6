"""A key that repeats, added to each byte (modulo 256)."""

from volvex.codec.ciphers import KEY, Bytewise, repeated
from volvex.codec.compiled import as_array

PARAMETERS = {"key": KEY}


def make(key: bytes) -> Bytewise:
    pattern = as_array(key)
    return Bytewise(
        lambda data, at: data - repeated(pattern, len(data), at),
        lambda data, at: data + repeated(pattern, len(data), at),
    )
