"""LZMA streams with the 13-byte head of the older .lzma files."""

import lzma as library

from volvex.codec.compress.xz import MEMORY
from volvex.codec.streams import Streamed

_codec = Streamed(
    "LZMA stream",
    lambda: library.LZMADecompressor(library.FORMAT_ALONE, memlimit=MEMORY),
    lambda: library.LZMACompressor(library.FORMAT_ALONE, preset=6),
    (library.LZMAError, EOFError, MemoryError),
)
decode, decode_stream = _codec.decode, _codec.decode_stream
decode_start, encode_stream = _codec.decode_start, _codec.encode_stream
content_size = _codec.content_size
