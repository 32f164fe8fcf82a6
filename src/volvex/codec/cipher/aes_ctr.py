"""AES as a stream: a counter that begins with `iv` (NIST SP 800-38A), its lowest byte last, or first as in ZIP
archives."""

from typing import Any

import numpy as np

from volvex.codec._aes import IV, KEY, aes
from volvex.codec.ciphers import Blockwise
from volvex.codec.compiled import as_array
from volvex.codec.parameters import Parameter

PARAMETERS = {"key": KEY, "iv": IV, "lowest": Parameter("last", words=("last", "first"))}


def make(key: bytes, iv: bytes, lowest: str) -> Blockwise:
    if lowest == "last":
        return aes(key, "CTR", "bare", iv)
    return Blockwise(1, "bare", lambda: _LowestFirst(key, iv), lambda: _LowestFirst(key, iv))


class _LowestFirst:
    """The stream that the package does not have: counters encrypted one by one, then laid over the bytes."""

    def __init__(self, key: bytes, start: bytes) -> None:
        self._ecb: Any = aes(key, "ECB", "bare").encrypt()
        self._counter, self._left = int.from_bytes(start, "little"), b""

    def update(self, data: bytes) -> bytes:
        if len(self._left) < len(data):
            self._left += self._stream(-(-(len(data) - len(self._left)) // 16))
        mask, self._left = self._left[: len(data)], self._left[len(data) :]
        return (as_array(data) ^ as_array(mask)).tobytes()

    def _stream(self, blocks: int) -> bytes:
        low, high = self._counter & (1 << 64) - 1, self._counter >> 64
        self._counter += blocks
        if low + blocks >= 1 << 64:  # the lower half runs over: seldom, so one by one
            numbers = range(self._counter - blocks, self._counter)
            return bytes(self._ecb.update(b"".join((n % (1 << 128)).to_bytes(16, "little") for n in numbers)))
        counters = np.empty((blocks, 2), "<u8")
        counters[:, 0] = np.arange(low, low + blocks, dtype=np.uint64)
        counters[:, 1] = high
        return bytes(self._ecb.update(counters.tobytes()))
