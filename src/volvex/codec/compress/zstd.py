"""Zstandard frames (RFC 8878), with the content's size and a checksum."""

from __future__ import annotations

import io
import itertools
from collections.abc import Iterable, Iterator

import zstandard

from volvex.codec.streams import Streamed

WINDOW = 1 << 27  # bytes that a frame may ask for as its window
LEVEL = 9
GATHERED = 1 << 24

PIECE = 1024  # a block of four bytes may hold 128 KB: so much input makes 32 MB at most


class _Decompressor:
    """The library's decoder, which knows no limit for its output, in the shape of the others, which do."""

    def __init__(self) -> None:
        self._stream = zstandard.ZstdDecompressor(max_window_size=WINDOW).decompressobj()
        self._made = io.BytesIO()
        self._input, self._used = b"", 0
        self.eof = False

    @property
    def unused_data(self) -> bytes:
        return bytes(self._stream.unused_data) + self._input[self._used :]

    def decompress(self, data: bytes, max_length: int) -> bytes:
        if data:
            self._input, self._used = self._input[self._used :] + data, 0
        made = [self._made.read(max_length)]
        missing = max_length - len(made[0])
        while missing > 0 and not self._stream.eof and self._used < len(self._input):
            piece = self._input[self._used : self._used + PIECE]
            self._used += len(piece)
            self._made = io.BytesIO(self._stream.decompress(piece))
            made.append(self._made.read(missing))
            missing -= len(made[-1])
        self.eof = bool(self._stream.eof) and self._made.tell() == len(self._made.getbuffer())
        return b"".join(made)


_codec = Streamed("Zstandard frame", _Decompressor, lambda: None, (zstandard.ZstdError, MemoryError))
decode, decode_stream, decode_start = _codec.decode, _codec.decode_stream, _codec.decode_start
content_size = _codec.content_size


def encode_stream(chunks: Iterable[bytes]) -> Iterator[bytes]:
    """Content up to `GATHERED` gets its size into the frame: some games refuse a frame without it."""
    chunks, parts, size = iter(chunks), list[bytes](), 0
    while size <= GATHERED and (chunk := next(chunks, None)) is not None:
        parts.append(chunk)
        size += len(chunk)
    known = size if size <= GATHERED else -1
    stream = zstandard.ZstdCompressor(level=LEVEL, write_checksum=True).compressobj(size=known)
    for chunk in itertools.chain(parts, chunks):
        yield stream.compress(chunk)
    yield stream.flush()
