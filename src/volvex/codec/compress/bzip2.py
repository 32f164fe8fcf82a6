"""bzip2 streams."""

import bz2

from volvex.codec.streams import Streamed

_codec = Streamed("bzip2 stream", bz2.BZ2Decompressor, bz2.BZ2Compressor, (OSError, EOFError))
decode, decode_stream = _codec.decode, _codec.decode_stream
decode_start, encode_stream = _codec.decode_start, _codec.encode_stream
content_size = _codec.content_size
