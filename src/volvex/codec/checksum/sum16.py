"""The sum of all bytes, modulo 2^16."""

from volvex.codec.checksums import byte_sum

bits = 16
new = byte_sum(bits)
