"""AES, each block mixed with the one before; the initialization vector `iv` goes before the first (NIST SP 800-38A)."""

from volvex.codec._aes import IV, KEY, aes
from volvex.codec.ciphers import TAIL, Blockwise

PARAMETERS = {"key": KEY, "iv": IV, "tail": TAIL}


def make(key: bytes, iv: bytes, tail: str) -> Blockwise:
    return aes(key, "CBC", tail, iv)
