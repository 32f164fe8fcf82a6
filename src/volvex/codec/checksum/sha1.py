"""SHA-1 (FIPS 180-4). It tells damage, not malice."""

import hashlib

from volvex.codec.checksums import digest

bits = 160
new = digest(hashlib.sha1)
