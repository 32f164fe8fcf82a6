"""LZ4 frames (LZ4 Frame Format 1.6), with a checksum of the content."""

from collections.abc import Iterable, Iterator

from lz4 import frame

from volvex.codec.streams import Streamed


class _Compressor:
    """The library's compressor, which has a call of its own for the beginning."""

    def __init__(self) -> None:
        self._stream = frame.LZ4FrameCompressor(content_checksum=True)
        self._begun = False

    def compress(self, data: bytes) -> bytes:
        head = b"" if self._begun else self._stream.begin()
        self._begun = True
        return bytes(head + self._stream.compress(data))

    def flush(self) -> bytes:
        return bytes((b"" if self._begun else self._stream.begin()) + self._stream.flush())


_codec = Streamed("LZ4 frame", frame.LZ4FrameDecompressor, _Compressor, (RuntimeError, EOFError))
decode, decode_stream, decode_start = _codec.decode, _codec.decode_stream, _codec.decode_start
content_size = _codec.content_size


def encode_stream(chunks: Iterable[bytes]) -> Iterator[bytes]:
    # in blocks of one size, so that the same content gives the same bytes however it comes
    yield from _codec.encode_stream(_evenly(chunks))


def _evenly(chunks: Iterable[bytes], size: int = 1 << 16) -> Iterator[bytes]:
    waiting = b""
    for chunk in chunks:
        waiting += chunk
        whole = len(waiting) - len(waiting) % size
        yield from (waiting[at : at + size] for at in range(0, whole, size))
        waiting = waiting[whole:]
    yield waiting
