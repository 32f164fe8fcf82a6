"""Codecs: a small file each, found by its name through one registry for each family.

`compress` turns stored bytes into content and back, `seal` computes checksums and digests. A file
`compress/zlib.py` is the codec that layouts call `zlib`; nothing else has to be told about it.
Other packages add codecs through the entry points `volvex.compress` and `volvex.seal`.
"""

from volvex.codec.registry import COMPRESS, SEAL, Compression, Seal
from volvex.codec.sums import Sum

__all__ = ["COMPRESS", "SEAL", "Compression", "Seal", "Sum"]
