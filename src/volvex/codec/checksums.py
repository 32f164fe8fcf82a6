"""What checksums share: sums that run on as numbers, digests that libraries keep, and the sum of the bytes.

A hash that games make keys with says besides how it is computed, as functions that other loops are compiled with:
a `Loop` over the bytes, or over the `BlockHash`. See `volvex.codec.bulk_hash`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from volvex.codec.compiled import Compiled, as_array


class Sum(Protocol):
    """A checksum while it is being computed."""

    def update(self, data: bytes | memoryview) -> None: ...

    def value(self) -> int:
        """The checksum over all that came, as a number; of a digest the first byte is the highest."""
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
class Loop:
    """A hash as a loop over bytes: `step(state, byte, table)` gives the next state, `end(state, table)` the value.

    Plain functions on numbers of 64 bits, to be compiled into larger loops. Of the value the hash's lower bits count.
    """

    step: Callable[[Any, Any, Any], Any]
    end: Callable[[Any, Any], Any]
    start: int
    table: tuple[int, ...] = (0,)


@dataclass(frozen=True)
class BlockHash:
    """A hash over blocks of bytes: `whole(data, table)` gives the value for an array of bytes."""

    whole: Callable[[Any, Any], Any]
    table: tuple[int, ...] = (0,)


@dataclass(frozen=True)
class ChecksumStream:
    """A checksum that was made with parameters."""

    bits: int
    new: Callable[[], Sum]
    loop: Loop | BlockHash | None = None


def _over(data: Any, state: Any, table: Any) -> Any:
    for at in range(len(data)):
        state = step(state, np.uint64(data[at]), table)  # type: ignore[name-defined]  # noqa: F821
    return state


def _value(state: Any, table: Any) -> Any:
    return end(state, table)  # type: ignore[name-defined]  # noqa: F821


def as_it_is(state: Any, table: Any) -> Any:
    """The end of a hash whose last state is its value."""
    return state


class _Hashed:
    """A hash that a compiled loop carries on in 64 bits; the value is cut to its own width."""

    __slots__ = ("_end", "_mask", "_next", "_state", "_table")

    def __init__(self, bits: int, over: Compiled, value: Compiled, start: int, table: Any) -> None:
        self._mask, self._next, self._end, self._table = (1 << bits) - 1, over, value, table
        self._state = np.uint64(start)

    def update(self, data: bytes | memoryview) -> None:
        self._state = np.uint64(self._next(as_array(data), self._state, self._table))

    def value(self) -> int:
        return int(self._end(self._state, self._table)) & self._mask


def hashed(bits: int, loop: Loop) -> ChecksumStream:
    """A checksum by a compiled loop."""
    over, value = Compiled(_over, step=loop.step), Compiled(_value, end=loop.end)
    table = np.array(loop.table, np.uint64)
    return ChecksumStream(bits, lambda: _Hashed(bits, over, value, loop.start, table), loop)


class _Gathered:
    """A hash that needs to know the length first: it keeps all that comes."""

    __slots__ = ("_hash", "_parts")

    def __init__(self, hash_all: Callable[[Any], int]) -> None:
        self._hash, self._parts = hash_all, list[bytes]()

    def update(self, data: bytes | memoryview) -> None:
        self._parts.append(bytes(data))

    def value(self) -> int:
        return self._hash(np.frombuffer(b"".join(self._parts), np.uint8))


def _all(data: Any, table: Any) -> Any:
    return whole(data, table)  # type: ignore[name-defined]  # noqa: F821


def gathered(bits: int, loop: BlockHash) -> ChecksumStream:
    """A checksum by a compiled function on all bytes at once."""
    run, table = Compiled(_all, whole=loop.whole), np.array(loop.table, np.uint64)
    return ChecksumStream(bits, lambda: _Gathered(lambda data: int(run(data, table))), loop)
