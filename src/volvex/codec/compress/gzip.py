"""gzip streams of one member (RFC 1952); written without a name and with the time 0."""

from volvex.codec._inflate import inflated

_codec = inflated("gzip")
decode, decode_stream = _codec.decode, _codec.decode_stream
decode_start, encode_stream = _codec.decode_start, _codec.encode_stream
content_size = _codec.content_size
