"""Content behind its own size: a number, then the content as another codec stores it.

number  how the size is written: u16, u32, u64 (little endian), u16_big, u32_big, u64_big
codec   the compression of what follows
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator

from volvex.codec.parameters import Parameter
from volvex.codec.registry import COMPRESS, Compression
from volvex.errors import ContentError

_FORMS = {"u16": "<H", "u32": "<I", "u64": "<Q", "u16_big": ">H", "u32_big": ">I", "u64_big": ">Q"}
PARAMETERS = {"number": Parameter("u32", words=tuple(_FORMS)), "codec": Parameter("zlib", codec=True)}


class Sized:
    """A compression behind a size; see the module."""

    def __init__(self, form: str, codec: str) -> None:
        self._form, self._codec = struct.Struct(form), codec

    def _inner(self) -> Compression:
        return COMPRESS.get(self._codec)

    def decode(self, stored: bytes, size: int) -> bytes:
        return b"".join(self.decode_stream([stored], size))

    def decode_stream(self, chunks: Iterable[bytes], size: int) -> Iterator[bytes]:
        chunks, head = iter(chunks), b""
        while len(head) < self._form.size and (chunk := next(chunks, None)) is not None:
            head += chunk
        if len(head) < self._form.size:
            raise ContentError("the content ends within its size")
        number = int(self._form.unpack_from(head)[0])
        if number != size:
            raise ContentError(f"the content gives its size as {number} bytes, the directory as {size}")
        yield from self._inner().decode_stream(_chained(head[self._form.size :], chunks), size)

    def content_size(self, chunks: Iterable[bytes], most: int) -> int:
        head = b""
        for chunk in chunks:
            head += chunk
            if len(head) >= self._form.size:
                return int(self._form.unpack_from(head)[0])
        raise ContentError("the content ends within its size")

    def decode_start(self, stored: bytes, size: int) -> bytes:
        return self._inner().decode_start(stored[self._form.size :], size)

    def encode_stream(self, chunks: Iterable[bytes]) -> Iterator[bytes]:
        parts = list(chunks)  # the size comes first
        try:
            yield self._form.pack(sum(map(len, parts)))
        except struct.error as error:
            raise ContentError("content too long for its size field") from error
        yield from self._inner().encode_stream(parts)


def _chained(first: bytes, rest: Iterable[bytes]) -> Iterator[bytes]:
    yield first
    yield from rest


def make(number: str, codec: str) -> Sized:
    return Sized(_FORMS[number], codec)
