"""What seals share: sums that run on as numbers, digests that libraries keep, and the sum of the bytes."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol

import numpy as np


class Sum(Protocol):
    """A seal while it is being computed."""

    def update(self, data: bytes | memoryview) -> None: ...

    def value(self) -> int:
        """The seal over all that came, as a number; of a digest the first byte is the highest."""
        ...


class _Running:
    __slots__ = ("_next", "_state")

    def __init__(self, step: Callable[[Any, int], int], start: int) -> None:
        self._next, self._state = step, start

    def update(self, data: bytes | memoryview) -> None:
        self._state = self._next(data, self._state)

    def value(self) -> int:
        return self._state


class _Digest:
    __slots__ = ("_state",)

    def __init__(self, state: Any) -> None:
        self._state = state

    def update(self, data: bytes | memoryview) -> None:
        self._state.update(data)

    def value(self) -> int:
        return int.from_bytes(self._state.digest(), "big")


def running(step: Callable[[Any, int], int], start: int) -> Callable[[], Sum]:
    """A sum that a function carries on: `step(data, so far)`."""
    return lambda: _Running(step, start)


def digest(make: Callable[[], Any]) -> Callable[[], Sum]:
    """A digest as Python's hashlib and xxhash have them."""
    return lambda: _Digest(make())


def byte_sum(bits: int) -> Callable[[], Sum]:
    """The sum of all bytes, modulo 2^bits."""
    return running(
        lambda data, state: (state + int(np.frombuffer(data, np.uint8).sum(dtype=np.uint64))) % (1 << bits), 0
    )
