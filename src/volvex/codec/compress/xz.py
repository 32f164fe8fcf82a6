"""xz streams (the .xz file format, version 1.1)."""

import lzma as library

from volvex.codec.streams import Streamed

MEMORY = 1 << 28  # bytes that a stream may ask for as its window

_codec = Streamed(
    "xz stream",
    lambda: library.LZMADecompressor(library.FORMAT_XZ, memlimit=MEMORY),
    lambda: library.LZMACompressor(library.FORMAT_XZ, preset=6),
    (library.LZMAError, EOFError, MemoryError),
)
decode, decode_stream = _codec.decode, _codec.decode_stream
decode_start, encode_stream = _codec.decode_start, _codec.encode_stream
content_size = _codec.content_size
