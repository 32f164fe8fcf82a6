"""XXH64 (xxHash specification 0.1.1). The package does it for content; the loop below is for names in bulk."""

from __future__ import annotations

from typing import Any

import numpy as np
import xxhash

from volvex.codec.checksums import BlockHash, ChecksumStream, digest
from volvex.codec.parameters import Parameter

PARAMETERS = {"start": Parameter(0, numbers=(0, (1 << 64) - 1))}


def _hash(data: Any, table: Any) -> Any:
    p1, p2, p3 = np.uint64(0x9E3779B185EBCA87), np.uint64(0xC2B2AE3D27D4EB4F), np.uint64(0x165667B19E3779F9)
    p4, p5 = np.uint64(0x85EBCA77C2B2AE63), np.uint64(0x27D4EB2F165667C5)
    size, at = len(data), 0
    h = table[0] + p5
    if size >= 32:
        lanes = np.array([table[0] + p1 + p2, table[0] + p2, table[0], table[0] - p1])
        while at + 32 <= size:
            for lane in range(4):
                word = np.uint64(0)
                for place in range(8):
                    word |= np.uint64(data[at + place]) << np.uint64(8 * place)
                one = lanes[lane] + word * p2
                lanes[lane] = ((one << np.uint64(31)) | (one >> np.uint64(33))) * p1
                at += 8
        h = np.uint64(0)
        for lane, left in ((0, 1), (1, 7), (2, 12), (3, 18)):
            h += (lanes[lane] << np.uint64(left)) | (lanes[lane] >> np.uint64(64 - left))
        for lane in range(4):
            one = lanes[lane] * p2
            h = (h ^ (((one << np.uint64(31)) | (one >> np.uint64(33))) * p1)) * p1 + p4
    h += np.uint64(size)
    while at + 8 <= size:
        word = np.uint64(0)
        for place in range(8):
            word |= np.uint64(data[at + place]) << np.uint64(8 * place)
        word *= p2
        h ^= ((word << np.uint64(31)) | (word >> np.uint64(33))) * p1
        h = ((h << np.uint64(27)) | (h >> np.uint64(37))) * p1 + p4
        at += 8
    if at + 4 <= size:
        word = np.uint64(0)
        for place in range(4):
            word |= np.uint64(data[at + place]) << np.uint64(8 * place)
        h ^= word * p1
        h = ((h << np.uint64(23)) | (h >> np.uint64(41))) * p2 + p3
        at += 4
    for place in range(at, size):
        h ^= np.uint64(data[place]) * p5
        h = ((h << np.uint64(11)) | (h >> np.uint64(53))) * p1
    h = (h ^ (h >> np.uint64(33))) * p2
    h = (h ^ (h >> np.uint64(29))) * p3
    return h ^ (h >> np.uint64(32))


def make(start: int) -> ChecksumStream:
    return ChecksumStream(64, digest(lambda: xxhash.xxh64(seed=start)), BlockHash(_hash, (start,)))
