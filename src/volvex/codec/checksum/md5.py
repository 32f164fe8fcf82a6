"""MD5 (RFC 1321). It tells damage, not malice."""

import hashlib

from volvex.codec.checksums import digest

bits = 128
new = digest(hashlib.md5)
