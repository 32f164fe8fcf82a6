"""SHA-256 (FIPS 180-4)."""

import hashlib

from volvex.codec.checksums import digest

bits = 256
new = digest(hashlib.sha256)
