"""XXH32 with seed 0 (xxHash specification 0.1.1)."""

import xxhash

from volvex.codec.sums import digest

bits = 32
new = digest(xxhash.xxh32)
