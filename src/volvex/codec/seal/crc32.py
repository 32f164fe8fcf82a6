"""CRC-32 as in ISO 3309 and ITU-T V.42 (polynomial 04C11DB7, reflected)."""

from volvex.codec._inflate import fast
from volvex.codec.sums import running

bits = 32
new = running(fast.crc32, 0)
