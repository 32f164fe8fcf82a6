"""MurmurHash3 for x86, 32 bits (Appleby, public domain)."""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.checksums import BlockHash, ChecksumStream, gathered
from volvex.codec.parameters import Parameter

PARAMETERS = {"start": Parameter(0, numbers=(0, (1 << 32) - 1))}


def _hash(data: Any, table: Any) -> Any:
    mask = np.uint64(0xFFFFFFFF)
    h, size = table[0], len(data)
    for at in range(0, size - size % 4, 4):
        k = np.uint64(data[at]) | np.uint64(data[at + 1]) << np.uint64(8)
        k |= np.uint64(data[at + 2]) << np.uint64(16) | np.uint64(data[at + 3]) << np.uint64(24)
        k = (k * np.uint64(0xCC9E2D51)) & mask
        k = ((k << np.uint64(15)) | (k >> np.uint64(17))) & mask
        h ^= (k * np.uint64(0x1B873593)) & mask
        h = ((h << np.uint64(13)) | (h >> np.uint64(19))) & mask
        h = (h * np.uint64(5) + np.uint64(0xE6546B64)) & mask
    k = np.uint64(0)
    for place in range(size % 4):
        k |= np.uint64(data[size - size % 4 + place]) << np.uint64(8 * place)
    if size % 4:
        k = (k * np.uint64(0xCC9E2D51)) & mask
        k = ((k << np.uint64(15)) | (k >> np.uint64(17))) & mask
        h ^= (k * np.uint64(0x1B873593)) & mask
    h ^= np.uint64(size)
    h = ((h ^ (h >> np.uint64(16))) * np.uint64(0x85EBCA6B)) & mask
    h = ((h ^ (h >> np.uint64(13))) * np.uint64(0xC2B2AE35)) & mask
    return h ^ (h >> np.uint64(16))


def make(start: int) -> ChecksumStream:
    return gathered(32, BlockHash(_hash, (start,)))
