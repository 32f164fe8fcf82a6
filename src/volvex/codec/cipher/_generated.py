"""What ciphers share that XOR bytes with those of a generator of numbers: a state that goes on by itself."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from volvex.codec.compiled import as_array

Step = Callable[[Any, Any, Any], None]  # fills an array with bytes, and leaves the state as it is then


class Generated:
    """A key stream: `fill(out, state, numbers)` writes the next bytes and leaves in `state[0]` the number and in
    `state[1]` how many bytes of it were given."""

    unit, pads = 1, False

    def __init__(self, key: bytes, numbers: tuple[int, ...], fill: Step) -> None:
        self._start, self._fill = int.from_bytes(key[:8], "little"), fill
        self._numbers = np.array([number & 0xFFFFFFFFFFFFFFFF for number in numbers], np.uint64)

    def decrypt(self) -> Stream:
        return Stream(self._start, self._numbers, self._fill)

    def encrypt(self) -> Stream:
        return self.decrypt()


class Stream:
    """The key stream at work on one stretch of bytes."""

    def __init__(self, start: int, numbers: Any, fill: Step) -> None:
        self._state, self._numbers, self._fill = np.array([start, 0], np.uint64), numbers, fill

    def update(self, data: bytes) -> bytes:
        mask = np.empty(len(data), np.uint8)
        self._fill(mask, self._state, self._numbers)
        return bytes((as_array(data) ^ mask).tobytes())

    def finish(self) -> bytes:
        return b""
