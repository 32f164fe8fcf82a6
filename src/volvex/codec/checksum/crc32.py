"""CRC-32 as in ISO 3309 and ITU-T V.42 (polynomial 04C11DB7, reflected)."""

from volvex.codec._inflate import fast
from volvex.codec.checksum.crc import loop_of
from volvex.codec.checksums import running

bits = 32
new = running(fast.crc32, 0)
loop = loop_of(32, 0x04C11DB7, 0xFFFFFFFF, True, 0xFFFFFFFF)
