"""Adler-32 (RFC 1950, section 8.2)."""

import zlib

from volvex.codec.checksums import running

bits = 32
new = running(zlib.adler32, 1)
