"""Hashing names in bulk: many texts at once, and all texts of a product of parts with the work of common beginnings
shared.

Compiled loops over what a checksum says of itself as a `Loop` or `BlockHash` (see `volvex.codec.checksums`). A checksum
that says nothing is computed one text after the other.
"""

from __future__ import annotations

import functools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.codec.checksums import BlockHash, Loop
from volvex.codec.compiled import Compiled, as_array
from volvex.codec.registry import CHECKSUM

# `step`, `end` and `whole` are those of the algorithm that a loop is compiled with
# ruff: noqa: F821
# mypy: disable-error-code="name-defined"

HITS = 1 << 16  # hits that one run of a walk has room for


def _many(data: Any, starts: Any, ends: Any, first: Any, table: Any, mask: Any, out: Any) -> None:
    for row in range(len(starts)):
        state = first
        for at in range(starts[row], ends[row]):
            state = step(state, np.uint64(data[at]), table)
        out[row] = end(state, table) & mask


def _many_whole(data: Any, starts: Any, ends: Any, first: Any, table: Any, mask: Any, out: Any) -> None:
    for row in range(len(starts)):
        out[row] = whole(data[starts[row] : ends[row]], table) & mask


def _is_among(key: Any, sieve: Any, targets: Any) -> Any:
    """Whether a key is one of the sorted targets; nearly all that are not fall through the sieve at once."""
    low = key & np.uint64(8 * len(sieve) - 1)
    if not (sieve[low >> np.uint64(3)] >> np.uint8(low & np.uint64(7))) & np.uint8(1):
        return False
    left, right = 0, len(targets)
    while left < right:
        middle = (left + right) >> 1
        if targets[middle] < key:
            left = middle + 1
        else:
            right = middle
    return left < len(targets) and targets[left] == key


def _next_prefix(digits: Any, counts: Any) -> Any:
    """Turn to the next combination; the first part that changes, -1 when there is none left."""
    part = len(counts) - 1
    while part >= 0:
        digits[part] += 1
        if digits[part] < counts[part]:
            break
        digits[part] = 0
        part -= 1
    return part


def _walk(
    head: Any,
    first: Any,
    last: Any,
    counts: Any,
    firsts: Any,
    digits: Any,
    runs: Any,
    tail: Any,
    begin: Any,
    until: Any,
    depth: Any,
    leaf: Any,
    start: Any,
    table: Any,
    mask: Any,
    sieve: Any,
    targets: Any,
    hits: Any,
) -> Any:
    found, changed = 0, 0
    states, deep = np.empty(len(counts) + 1, np.uint64), np.empty(len(depth) + 2, np.uint64)
    states[0] = start
    for run in range(runs):
        for part in range(changed, len(counts)):
            state, other = states[part], firsts[part] + digits[part]
            for at in range(first[other], last[other]):
                state = step(state, np.uint64(head[at]), table)
            states[part + 1] = state
        deep[0] = states[len(counts)]
        for node in range(len(depth)):
            state = deep[depth[node]]
            for at in range(begin[node], until[node]):
                state = step(state, np.uint64(tail[at]), table)
            deep[depth[node] + 1] = state
            if leaf[node] and is_among(end(state, table) & mask, sieve, targets):
                if found < len(hits):
                    hits[found, 0], hits[found, 1] = run, node
                found += 1
        changed = next_prefix(digits, counts)
    return found


def _walk_whole(
    head: Any,
    first: Any,
    last: Any,
    counts: Any,
    firsts: Any,
    digits: Any,
    runs: Any,
    tail: Any,
    begin: Any,
    until: Any,
    depth: Any,
    leaf: Any,
    start: Any,
    table: Any,
    mask: Any,
    sieve: Any,
    targets: Any,
    hits: Any,
) -> Any:
    found, changed = 0, 0
    sizes, deep = np.zeros(len(counts) + 1, np.int64), np.zeros(len(depth) + 2, np.int64)
    text = np.empty(len(head) + len(tail), np.uint8)
    for run in range(runs):
        for part in range(changed, len(counts)):
            size, other = sizes[part], firsts[part] + digits[part]
            for at in range(first[other], last[other]):
                text[size] = head[at]
                size += 1
            sizes[part + 1] = size
        deep[0] = sizes[len(counts)]
        for node in range(len(depth)):
            size = deep[depth[node]]
            for at in range(begin[node], until[node]):
                text[size] = tail[at]
                size += 1
            deep[depth[node] + 1] = size
            if leaf[node] and is_among(whole(text[:size], table) & mask, sieve, targets):
                if found < len(hits):
                    hits[found, 0], hits[found, 1] = run, node
                found += 1
        changed = next_prefix(digits, counts)
    return found


def _spans(texts: Sequence[bytes]) -> tuple[Any, Any, Any]:
    """Texts one behind the other: their bytes, where each starts, and where it ends."""
    ends = np.cumsum(np.fromiter(map(len, texts), np.int64, len(texts)))
    sizes = np.diff(ends, prepend=0)
    return as_array(b"".join(texts) or b"\0"), ends - sizes, ends


class Targets:
    """Keys that are looked for: sorted, with a sieve in front."""

    def __init__(self, keys: Any) -> None:
        self.keys = np.unique(np.asarray(keys, np.uint64))
        bits = max(10, min(24, int(max(1, len(self.keys))).bit_length() + 6))
        self.sieve = np.zeros(1 << bits - 3, np.uint8)
        low = self.keys & np.uint64((1 << bits) - 1)
        np.bitwise_or.at(
            self.sieve, (low >> np.uint64(3)).astype(np.int64), np.uint8(1) << (low & np.uint64(7)).astype(np.uint8)
        )

    def __len__(self) -> int:
        return len(self.keys)


@dataclass(frozen=True)
class SuffixTrie:
    """Endings as a tree, in the order of a walk: each node adds its text to that of the node above it."""

    texts: tuple[bytes, ...]
    depth: tuple[int, ...]
    leaf: tuple[bool, ...]

    @functools.cached_property
    def arrays(self) -> tuple[Any, Any, Any, Any, Any]:
        """What the loops need: the bytes, where each node's start and end, its depth, whether an ending ends there."""
        data, starts, ends = _spans(self.texts)
        return data, starts, ends, np.array(self.depth, np.int64), np.array(self.leaf, np.bool_)

    def text(self, node: int) -> bytes:
        """The whole ending at a node."""
        out, depth = self.texts[node], self.depth[node]
        while depth:
            node -= 1
            if self.depth[node] < depth:
                out, depth = self.texts[node] + out, self.depth[node]
        return out


class BulkHash:
    """An algorithm at work on many texts. Its loops let go of the interpreter, so threads help."""

    def __init__(self, algorithm: str) -> None:
        self._checksum = CHECKSUM.get(algorithm)
        self.bits = self._checksum.bits
        self._mask = np.uint64((1 << min(64, self.bits)) - 1)
        loop: Loop | BlockHash | None = getattr(self._checksum, "loop", None)
        self._table = np.array(loop.table if loop is not None else (0,), np.uint64)
        self._start = np.uint64(loop.start if isinstance(loop, Loop) else 0)
        if isinstance(loop, Loop):
            self._many = Compiled(_many, step=loop.step, end=loop.end)
            self._walk = Compiled(_walk, step=loop.step, end=loop.end, is_among=_is_among, next_prefix=_next_prefix)
        elif loop is not None:
            self._many = Compiled(_many_whole, whole=loop.whole)
            self._walk = Compiled(_walk_whole, whole=loop.whole, is_among=_is_among, next_prefix=_next_prefix)
        self.compiled = loop is not None

    def of(self, data: bytes, starts: Any, ends: Any) -> Any:
        """The hashes (uint64) of texts that lie in `data` from `starts` to `ends`."""
        if not self.compiled:
            return np.fromiter(
                (self.one(data[a:b]) for a, b in zip(starts.tolist(), ends.tolist(), strict=True)),
                np.uint64,
                len(starts),
            )
        out = np.empty(len(starts), np.uint64)
        self._many(as_array(data or b"\0"), starts, ends, self._start, self._table, self._mask, out)
        return out

    def of_texts(self, texts: Sequence[bytes]) -> Any:
        """The hashes of some texts."""
        _, starts, ends = _spans(texts)
        return self.of(b"".join(texts), starts, ends)

    def one(self, text: bytes) -> int:
        """The hash of one text, without waiting for a compiler."""
        total = self._checksum.new()
        total.update(text)
        return total.value()

    def walk(
        self,
        parts: Sequence[Sequence[bytes]],
        first: int,
        runs: int,
        tails: SuffixTrie,
        targets: Targets,
        bits: int = 64,
    ) -> list[tuple[int, int]]:
        """Which texts of a product hash to a target: the combination of `parts` and the node of `tails`.

        Combinations are counted with the last part turning fastest; `runs` of them are walked from `first` on. Of
        hashes the lower `bits` count.
        """
        if not self.compiled:
            return self._walk_slowly(parts, first, runs, tails, targets, bits)
        counts = np.array([len(part) for part in parts], np.int64)
        head, begin, until = _spans([text for part in parts for text in part])
        digits, rest = np.zeros(len(parts), np.int64), first
        for place in range(len(parts) - 1, -1, -1):
            rest, digits[place] = divmod(rest, len(parts[place]))
        begun = digits.copy()
        data, starts, ends, depth, leaf = tails.arrays
        mask = self._mask & np.uint64((1 << bits) - 1)
        fixed = (
            head,
            begin,
            until,
            counts,
            np.cumsum(counts) - counts,
            digits,
            runs,
            data,
            starts,
            ends,
            depth,
            leaf,
            self._start,
            self._table,
            mask,
            targets.sieve,
            targets.keys,
        )
        hits = np.empty((HITS, 2), np.int64)
        found = self._walk(*fixed, hits)
        if found > HITS:  # seldom: nearly all keys are hit
            hits = np.empty((found, 2), np.int64)
            digits[:] = begun
            self._walk(*fixed, hits)
        return [(first + run, node) for run, node in hits[:found].tolist()]

    def _walk_slowly(
        self,
        parts: Sequence[Sequence[bytes]],
        first: int,
        runs: int,
        tails: SuffixTrie,
        targets: Targets,
        bits: int = 64,
    ) -> list[tuple[int, int]]:
        wanted = set(targets.keys.tolist())
        nodes = [(node, tails.text(node)) for node, leaf in enumerate(tails.leaf) if leaf]
        found = []
        for run in range(first, first + runs):
            head = combination(parts, run)
            found += [(run, node) for node, text in nodes if self.one(head + text) & (1 << bits) - 1 in wanted]
        return found


@functools.lru_cache(64)
def bulk_hash(algorithm: str) -> BulkHash:
    """An algorithm at work on many texts; its loops are loaded once."""
    return BulkHash(algorithm)


def combination(parts: Sequence[Sequence[bytes]], number: int) -> bytes:
    """The text of a combination of parts, by its number in the order of `walk`."""
    out = b""
    for part in reversed(parts):
        number, digit = divmod(number, len(part))
        out = part[digit] + out
    return out
