"""The sum of all bytes, modulo 2^8."""

from volvex.codec.checksums import byte_sum

bits = 8
new = byte_sum(bits)
