"""Codecs: a small file each, found by its name through one registry for each family.

`compress` turns stored bytes into content and back, `cipher` hides them, `checksum` computes checksums and digests. A
file `compress/zlib.py` is the codec that layouts call `zlib`; nothing else has to be told about it. Codecs that take
parameters are named with them: `lzss(window 4096)`. Other packages add codecs through the entry points
`volvex.compress`, `volvex.cipher` and `volvex.checksum`.
"""

from volvex.codec.checksums import Sum
from volvex.codec.registry import CHECKSUM, CIPHER, COMPRESS, Checksum, Cipher, Compression

__all__ = ["CHECKSUM", "CIPHER", "COMPRESS", "Checksum", "Cipher", "Compression", "Sum"]
