"""Raw deflate streams, without head or check (RFC 1951)."""

from volvex.codec._inflate import inflated

_codec = inflated("deflate")
decode, decode_stream = _codec.decode, _codec.decode_stream
decode_start, encode_stream = _codec.decode_start, _codec.encode_stream
content_size = _codec.content_size
