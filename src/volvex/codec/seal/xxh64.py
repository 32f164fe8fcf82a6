"""XXH64 with seed 0 (xxHash specification 0.1.1)."""

import xxhash

from volvex.codec.sums import digest

bits = 64
new = digest(xxhash.xxh64)
