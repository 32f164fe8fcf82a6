"""XXH32 (xxHash specification 0.1.1). The package does it for content; the loop below is for names in bulk."""

from __future__ import annotations

from typing import Any

import numpy as np
import xxhash

from volvex.codec.checksums import BlockHash, ChecksumStream, digest
from volvex.codec.parameters import Parameter

PARAMETERS = {"start": Parameter(0, numbers=(0, (1 << 32) - 1))}


def _hash(data: Any, table: Any) -> Any:
    mask, p1, p2, p3 = np.uint64(0xFFFFFFFF), np.uint64(2654435761), np.uint64(2246822519), np.uint64(3266489917)
    p4, p5, size, at = np.uint64(668265263), np.uint64(374761393), len(data), 0
    h = (table[0] + p5) & mask
    if size >= 16:
        lanes = np.array([table[0] + p1 + p2, table[0] + p2, table[0], table[0] - p1]) & mask
        while at + 16 <= size:
            for lane in range(4):
                word = np.uint64(0)
                for place in range(4):
                    word |= np.uint64(data[at + place]) << np.uint64(8 * place)
                one = (lanes[lane] + word * p2) & mask
                lanes[lane] = (((one << np.uint64(13)) | (one >> np.uint64(19))) * p1) & mask
                at += 4
        h = np.uint64(0)
        for lane, left in ((0, 1), (1, 7), (2, 12), (3, 18)):
            h += (lanes[lane] << np.uint64(left)) | (lanes[lane] >> np.uint64(32 - left))
    h = (h + np.uint64(size)) & mask
    while at + 4 <= size:
        word = np.uint64(0)
        for place in range(4):
            word |= np.uint64(data[at + place]) << np.uint64(8 * place)
        h = (h + word * p3) & mask
        h = (((h << np.uint64(17)) | (h >> np.uint64(15))) * p4) & mask
        at += 4
    for place in range(at, size):
        h = (h + np.uint64(data[place]) * p5) & mask
        h = (((h << np.uint64(11)) | (h >> np.uint64(21))) * p1) & mask
    h = ((h ^ (h >> np.uint64(15))) * p2) & mask
    h = ((h ^ (h >> np.uint64(13))) * p3) & mask
    return h ^ (h >> np.uint64(16))


def make(start: int) -> ChecksumStream:
    return ChecksumStream(32, digest(lambda: xxhash.xxh32(seed=start)), BlockHash(_hash, (start,)))
