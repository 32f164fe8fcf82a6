"""AES, each block by itself (NIST SP 800-38A)."""

from volvex.codec._aes import KEY, aes
from volvex.codec.ciphers import TAIL, Blockwise

PARAMETERS = {"key": KEY, "tail": TAIL}


def make(key: bytes, tail: str) -> Blockwise:
    return aes(key, "ECB", tail)
