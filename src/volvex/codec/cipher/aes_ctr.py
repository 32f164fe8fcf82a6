"""AES as a stream: a counter that begins with `start`, its lowest byte last (NIST SP 800-38A)."""

from volvex.codec._aes import KEY, START, aes
from volvex.codec.ciphers import Blockwise

PARAMETERS = {"key": KEY, "start": START}


def make(key: bytes, start: bytes) -> Blockwise:
    return aes(key, "CTR", "bare", start)
