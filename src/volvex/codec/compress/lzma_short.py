"""LZMA streams with a head of 5 bytes (the properties and the window), which leaves the size out."""

from __future__ import annotations

import lzma as library
import struct
from typing import Any

from volvex.codec.compress.lzma_bare import Decoder, filters
from volvex.codec.streams import Streamed

HEAD = struct.Struct("<BI")
LARGEST = 1 << 26  # bytes of a window that are granted
WINDOW = 1 << 23


class _Decoder:
    open_ended = True

    def __init__(self) -> None:
        self._held = b""
        self._inner: Decoder | None = None

    @property
    def eof(self) -> bool:
        return self._inner is not None and self._inner.eof

    @property
    def unused_data(self) -> bytes:
        return self._inner.unused_data if self._inner is not None else b""

    def decompress(self, data: bytes, max_length: int) -> bytes:
        if self._inner is None:
            self._held += data
            if len(self._held) < HEAD.size:
                return b""
            properties, window = HEAD.unpack_from(self._held)
            if properties >= 225 or window > LARGEST:
                raise library.LZMAError("its head is not one of LZMA")
            self._inner = Decoder(filters(properties % 9, properties // 9 % 5, properties // 45, max(window, 4096)))
            data, self._held = self._held[HEAD.size :], b""
        return self._inner.decompress(data, max_length)


class _Encoder:
    def __init__(self) -> None:
        self._inner: Any = library.LZMACompressor(library.FORMAT_RAW, filters=filters(3, 0, 2, WINDOW))
        self._head = HEAD.pack(3 + 9 * (0 + 5 * 2), WINDOW)

    def compress(self, data: bytes) -> bytes:
        head, self._head = self._head, b""
        return head + bytes(self._inner.compress(data))

    def flush(self) -> bytes:
        return self._head + bytes(self._inner.flush())


_codec = Streamed("LZMA stream", _Decoder, _Encoder, (library.LZMAError, EOFError, MemoryError))
decode, decode_stream = _codec.decode, _codec.decode_stream
decode_start, encode_stream = _codec.decode_start, _codec.encode_stream
