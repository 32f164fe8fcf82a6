"""What ciphers share: those that hide each byte by itself, and those that take whole units."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from volvex.codec.compiled import Bytes, as_array
from volvex.codec.parameters import Parameter

KEY = Parameter(sizes=())
TAIL = Parameter("bare", words=("bare", "zeros"))


class Bytewise:
    """A cipher whose effect on a byte depends on where it stands: `mask(array, from)` gives the bytes again."""

    unit, pads = 1, False

    def __init__(self, decrypt: Callable[[Bytes, int], Bytes], encrypt: Callable[[Bytes, int], Bytes]) -> None:
        self._decrypt, self._encrypt = decrypt, encrypt

    def decrypted(self, data: bytes, at: int) -> bytes:
        """Bytes that stand `at` bytes from the start, decrypted."""
        return self._decrypt(as_array(data), at).tobytes()

    def decrypt(self) -> Running:
        return Running(self._decrypt)

    def encrypt(self) -> Running:
        return Running(self._encrypt)


class Running:
    """Applies a mask to one piece after another."""

    def __init__(self, mask: Callable[[Bytes, int], Bytes]) -> None:
        self._mask, self._at = mask, 0

    def update(self, data: bytes) -> bytes:
        out = self._mask(as_array(data), self._at).tobytes()
        self._at += len(data)
        return out

    def finish(self) -> bytes:
        return b""


def repeated(key: Bytes, size: int, start: int) -> Bytes:
    """`size` bytes of a key that repeats, from its place `start` on."""
    first = start % len(key)
    return np.tile(key, -(-(first + size) // len(key)))[first : first + size]


class Blockwise:
    """A cipher on units of `unit` bytes. What is left at the end stays bare, or is filled up with zeros (`tail`)."""

    def __init__(self, unit: int, tail: str, decryptor: Callable[[], Any], encryptor: Callable[[], Any]) -> None:
        self.unit, self.pads = unit, tail == "zeros"
        self._decryptor, self._encryptor = decryptor, encryptor

    def decrypt(self) -> Units:
        return Units(self.unit, False, self._decryptor())

    def encrypt(self) -> Units:
        return Units(self.unit, self.pads, self._encryptor())


class Units:
    """Hands whole units to `context.update`, and keeps the rest for later."""

    def __init__(self, unit: int, pads: bool, context: Any) -> None:
        self._unit, self._pads, self._context, self._held = unit, pads, context, b""

    def update(self, data: bytes) -> bytes:
        data = self._held + data
        whole = len(data) - len(data) % self._unit
        self._held = data[whole:]
        out: bytes = self._context.update(data[:whole])
        return out

    def finish(self) -> bytes:
        if self._pads and self._held:
            return self.update(bytes(self._unit - len(self._held)))
        rest, self._held = self._held, b""
        return rest
