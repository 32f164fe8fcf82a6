"""What seals share: sums that run on as numbers, digests that libraries keep, and the sum of the bytes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
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


@dataclass(frozen=True)
class Sealing:
    """A seal that was made with parameters."""

    bits: int
    new: Callable[[], Sum]


class _Hashed:
    """A hash that a compiled loop carries on in 64 bits; the end is cut to its own width."""

    __slots__ = ("_end", "_mask", "_next", "_state")

    def __init__(self, bits: int, step: Callable[[Any, Any], Any], start: int, end: Callable[[int], int]) -> None:
        self._mask, self._next, self._state, self._end = (1 << bits) - 1, step, np.uint64(start), end

    def update(self, data: bytes | memoryview) -> None:
        self._state = np.uint64(self._next(np.frombuffer(data, np.uint8), self._state))

    def value(self) -> int:
        return self._end(int(self._state) & self._mask)


def hashed(bits: int, step: Callable[[Any, Any], Any], start: int, end: Callable[[int], int] | None = None) -> Sealing:
    """A seal by a compiled loop: `step(array, state)` with a state of 64 bits, `end(state)` for the value.

    Without an `end` the state's lower `bits` are the value; with one it gets the whole state.
    """
    if end is None:
        return Sealing(bits, lambda: _Hashed(bits, step, start, lambda state: state))
    return Sealing(bits, lambda: _Hashed(64, step, start, end))


class _Gathered:
    """A hash that needs to know the length first: it keeps all that comes."""

    __slots__ = ("_hash", "_parts")

    def __init__(self, hash_all: Callable[[Any], int]) -> None:
        self._hash, self._parts = hash_all, list[bytes]()

    def update(self, data: bytes | memoryview) -> None:
        self._parts.append(bytes(data))

    def value(self) -> int:
        return self._hash(np.frombuffer(b"".join(self._parts), np.uint8))


def gathered(bits: int, hash_all: Callable[[Any], int]) -> Sealing:
    """A seal by a function on all bytes at once."""
    return Sealing(bits, lambda: _Gathered(hash_all))
