"""XXH32 (xxHash specification 0.1.1)."""

import xxhash

from volvex.codec.parameters import Parameter
from volvex.codec.sums import Sealing, digest

PARAMETERS = {"start": Parameter(0, numbers=(0, (1 << 32) - 1))}


def make(start: int) -> Sealing:
    return Sealing(32, digest(lambda: xxhash.xxh32(seed=start)))
