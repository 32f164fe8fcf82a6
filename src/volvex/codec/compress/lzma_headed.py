"""LZMA behind a short head, as ZIP archives store it: the version, the properties' size, the properties (APPNOTE
6.3.10, 5.8.8)."""

from __future__ import annotations

import lzma as library
import struct
from collections.abc import Iterable, Iterator

from volvex.codec.compress.lzma_bare import Decoder, filters
from volvex.codec.streams import Decompressor, Streamed
from volvex.errors import ContentError

VERSION = (9, 20)
LC, LP, PB, WINDOW = 3, 0, 2, 1 << 23
LARGEST = 1 << 28  # bytes of a window that are made room for


class _Headed:
    """Reads the head, then decodes what follows it."""

    open_ended = True

    def __init__(self) -> None:
        self._head, self._stream = b"", None

    _stream: Decompressor | None

    @property
    def eof(self) -> bool:
        return self._stream is not None and self._stream.eof

    @property
    def unused_data(self) -> bytes:
        return self._stream.unused_data if self._stream is not None else b""

    def decompress(self, data: bytes, max_length: int) -> bytes:
        if self._stream is None:
            self._head += data
            if len(self._head) < 9:
                return b""
            data, self._stream = self._head[9:], _decoder(self._head[:9])
        return self._stream.decompress(data, max_length)


def _decoder(head: bytes) -> Decompressor:
    size, properties, window = struct.unpack("<2xHBI", head)
    if size != 5 or properties >= 225:
        raise ContentError("not a valid LZMA stream: its head is not one")
    if window > LARGEST:
        raise ContentError(f"the LZMA stream asks for a window of {window} bytes")
    return Decoder(filters(properties % 9, properties // 9 % 5, properties // 45, max(4096, window)))


_codec = Streamed("LZMA stream", _Headed, lambda: None, (library.LZMAError, EOFError, MemoryError))
decode, decode_stream, decode_start = _codec.decode, _codec.decode_stream, _codec.decode_start


def encode_stream(chunks: Iterable[bytes]) -> Iterator[bytes]:
    """With an end mark, so that a reader needs no size."""
    yield struct.pack("<BBHBI", *VERSION, 5, (PB * 5 + LP) * 9 + LC, WINDOW)
    stream = library.LZMACompressor(library.FORMAT_RAW, filters=filters(LC, LP, PB, WINDOW))
    for chunk in chunks:
        out = stream.compress(chunk)
        if out:
            yield out
    yield stream.flush()
