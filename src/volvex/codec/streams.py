"""What all stream compressions share: bounded decoding by a library's decompressor, whole, in pieces, or its start.

Python's libraries agree on a decompressor with `decompress(data, max_length)`, `eof` and `unused_data`; each
codec's file says how to make one, and what makes the other direction.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from typing import Any, Protocol

from volvex.errors import ContentError

STEP = 1 << 20  # bytes that come out at once


_NUMBERED = re.compile(r"^Error -?\d+ (?:while [^:]*: )?|^zstd decompressor error: |\.? ?Error code: -?\d+\.?")


def library_words(error: BaseException) -> str:
    """What a library says of an error, without its own numbers."""
    said = _NUMBERED.sub("", str(error)).strip()
    return said[:1].lower() + said[1:] or "its bytes cannot be decoded"


class Decompressor(Protocol):
    """A library's decoder of one stream."""

    @property
    def eof(self) -> bool: ...

    @property
    def unused_data(self) -> bytes: ...

    def decompress(self, data: bytes, max_length: int) -> bytes: ...


class Tailed:
    """zlib's decoders hand back the input that they did not use; the others keep it. This makes the first like the
    others."""

    def __init__(self, stream: Any) -> None:
        self._stream, self._tail = stream, b""

    def decompress(self, data: bytes, max_length: int) -> bytes:
        out: bytes = self._stream.decompress(self._tail + data if self._tail else data, max_length)
        self._tail = self._stream.unconsumed_tail
        return out

    @property
    def eof(self) -> bool:
        return bool(self._stream.eof)

    @property
    def unused_data(self) -> bytes:
        unused: bytes = self._stream.unused_data
        return unused


class Streamed:
    """A compression made from a library's decoder and encoder. `what` is how errors call its streams."""

    def __init__(
        self,
        what: str,
        decoder: Callable[[], Decompressor],
        encoder: Callable[[], Any],
        errors: tuple[type[Exception], ...],
    ) -> None:
        self.what, self.decoder, self._encoder, self.errors = what, decoder, encoder, errors

    def decode(self, stored: bytes, size: int) -> bytes:
        """The content; ContentError unless it is exactly `size` bytes and all of `stored` is used."""
        stream = self.decoder()
        content = self._step(stream, stored, size + 1)
        if len(content) <= size and not stream.eof:  # a library may give less than it could
            content = b"".join([content, *self._rest(stream, size + 1 - len(content))])
        if len(content) != size:
            found = (
                f"more than {size} bytes, its size" if len(content) > size else f"{len(content)} bytes, expected {size}"
            )
            raise ContentError(f"the {self.what} decodes to {found}")
        self._check_end(stream, 0)
        return content

    def _rest(self, stream: Decompressor, room: int) -> Iterator[bytes]:
        while room > 0 and not stream.eof:
            out = self._step(stream, b"", room)
            if not out:
                return
            room -= len(out)
            yield out

    def decode_stream(self, chunks: Iterable[bytes], size: int) -> Iterator[bytes]:
        """The same in pieces; never more than `size` bytes come out."""
        stream, left, unused = self.decoder(), size, 0
        for chunk in chunks:
            if stream.eof:
                unused += len(chunk)
                continue
            out = b"-"
            while out and not stream.eof:
                out = self._step(stream, chunk, STEP)
                chunk, left = b"", left - len(out)
                if left < 0:
                    raise ContentError(f"the {self.what} decodes to more than {size} bytes, its size")
                if out:
                    yield out
        if left:
            raise ContentError(f"the {self.what} decodes to {size - left} bytes, expected {size}")
        self._check_end(stream, unused)

    def decode_start(self, stored: bytes, size: int) -> bytes:
        """The first `size` bytes of the content, from a beginning of `stored`."""
        return self._step(self.decoder(), stored, size)

    def content_size(self, chunks: Iterable[bytes], most: int) -> int:
        """The bytes that a stream decodes to; ContentError when these are more than `most`, or damaged."""
        stream, size = self.decoder(), 0
        for chunk in chunks:
            out = b"-"
            while out and not stream.eof:
                out = self._step(stream, chunk, STEP)
                chunk, size = b"", size + len(out)
                if size > most:
                    raise ContentError(f"the {self.what} decodes to more than {most:,} bytes")
        self._check_end(stream, 0)
        return size

    def decode_members(self, chunks: Iterable[bytes]) -> Iterator[bytes]:
        """The content of streams that follow each other, of whatever size, up to the end; zeros between them are
        padding."""
        stream, begun = None, False
        for chunk in chunks:
            data = chunk
            while data:
                if stream is None:
                    data = data.lstrip(b"\0") if begun else data
                    stream, begun = (self.decoder(), True) if data else (None, begun)
                    continue
                out = self._step(stream, data, STEP)
                while out:
                    yield out
                    out = b"" if stream.eof else self._step(stream, b"", STEP)
                data = stream.unused_data if stream.eof else b""
                stream = None if stream.eof else stream
        if stream is not None or not begun:
            raise ContentError(f"the {self.what} is cut off before its end")

    def encode_stream(self, chunks: Iterable[bytes]) -> Iterator[bytes]:
        """Content in pieces to stored bytes in pieces."""
        stream = self._encoder()
        for chunk in chunks:
            out = stream.compress(chunk)
            if out:
                yield out
        yield stream.flush()

    def _step(self, stream: Decompressor, data: bytes, room: int) -> bytes:
        try:
            return stream.decompress(data, room)
        except self.errors as error:
            raise ContentError(f"not a valid {self.what}: {library_words(error)}") from error

    def _check_end(self, stream: Decompressor, unused: int) -> None:
        if not stream.eof and not getattr(stream, "open_ended", False):
            raise ContentError(f"the {self.what} is cut off before its end")
        if unused or stream.unused_data:
            raise ContentError(f"{unused + len(stream.unused_data)} bytes follow the end of the {self.what}")
