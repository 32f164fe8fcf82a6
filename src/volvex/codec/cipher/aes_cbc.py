"""AES, each block mixed with the one before; `start` goes before the first (NIST SP 800-38A)."""

from volvex.codec._aes import KEY, START, aes
from volvex.codec.ciphers import TAIL, Blockwise

PARAMETERS = {"key": KEY, "start": START, "tail": TAIL}


def make(key: bytes, start: bytes, tail: str) -> Blockwise:
    return aes(key, "CBC", tail, start)
