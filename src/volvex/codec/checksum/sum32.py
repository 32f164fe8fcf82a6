"""The sum of all bytes, modulo 2^32."""

from volvex.codec.checksums import byte_sum

bits = 32
new = byte_sum(bits)
