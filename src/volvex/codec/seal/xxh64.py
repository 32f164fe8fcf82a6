"""XXH64 (xxHash specification 0.1.1)."""

import xxhash

from volvex.codec.parameters import Parameter
from volvex.codec.sums import Sealing, digest

PARAMETERS = {"start": Parameter(0, numbers=(0, (1 << 64) - 1))}


def make(start: int) -> Sealing:
    return Sealing(64, digest(lambda: xxhash.xxh64(seed=start)))
