"""MurmurHash2, of 32 bits, or of 64 (64A) (Appleby, public domain)."""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.checksums import BlockHash, ChecksumStream, gathered
from volvex.codec.parameters import Parameter

PARAMETERS = {"bits": Parameter(32, numbers=(32, 64)), "start": Parameter(0, numbers=(0, (1 << 64) - 1))}


def _hash32(data: Any, table: Any) -> Any:
    mask, m = np.uint64(0xFFFFFFFF), np.uint64(0x5BD1E995)
    size = len(data)
    h = (table[0] ^ np.uint64(size)) & mask
    for at in range(0, size - size % 4, 4):
        k = np.uint64(data[at]) | np.uint64(data[at + 1]) << np.uint64(8)
        k |= np.uint64(data[at + 2]) << np.uint64(16) | np.uint64(data[at + 3]) << np.uint64(24)
        k = (k * m) & mask
        k = ((k ^ (k >> np.uint64(24))) * m) & mask
        h = ((h * m) & mask) ^ k
    if size % 4:
        for place in range(size % 4):
            h ^= np.uint64(data[size - size % 4 + place]) << np.uint64(8 * place)
        h = (h * m) & mask
    h = ((h ^ (h >> np.uint64(13))) * m) & mask
    return h ^ (h >> np.uint64(15))


def _hash64(data: Any, table: Any) -> Any:
    m = np.uint64(0xC6A4A7935BD1E995)
    size = len(data)
    h = table[0] ^ (np.uint64(size) * m)
    for at in range(0, size - size % 8, 8):
        k = np.uint64(0)
        for place in range(8):
            k |= np.uint64(data[at + place]) << np.uint64(8 * place)
        k = k * m
        k = (k ^ (k >> np.uint64(47))) * m
        h = (h ^ k) * m
    if size % 8:
        for place in range(size % 8):
            h ^= np.uint64(data[size - size % 8 + place]) << np.uint64(8 * place)
        h = h * m
    h = (h ^ (h >> np.uint64(47))) * m
    return h ^ (h >> np.uint64(47))


def make(bits: int, start: int) -> ChecksumStream:
    return gathered(bits, BlockHash(_hash64 if bits == 64 else _hash32, (start,)))
