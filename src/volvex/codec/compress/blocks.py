"""Content cut into blocks, each compressed by itself, with the stored size of each.

size    bytes of content in a block; the last may be shorter
sizes   `before`: all stored sizes as a table before the first block; `each`: each before its block
number  how a stored size is written: u16, u32 (little endian), u16_big, u32_big
bare    which blocks are stored as they are: those whose stored size is that of the content (`same`), those whose
        stored size has its highest bit (`high`), or none (`never`)
codec   the compression of a block
"""

from __future__ import annotations

import struct
from collections.abc import Iterable, Iterator

from volvex.codec.parameters import Parameter
from volvex.codec.registry import COMPRESS, Compression
from volvex.errors import ContentError

PARAMETERS = {
    "size": Parameter(65536, numbers=(16, 1 << 26)),
    "sizes": Parameter("before", words=("before", "each")),
    "number": Parameter("u32", words=("u16", "u32", "u16_big", "u32_big")),
    "bare": Parameter("same", words=("same", "high", "never")),
    "codec": Parameter("zlib", codec=True),
}
_FORMS = {"u16": "<H", "u32": "<I", "u16_big": ">H", "u32_big": ">I"}


class _Feed:
    """Exact reads from chunks."""

    def __init__(self, chunks: Iterable[bytes]) -> None:
        self._chunks, self._held, self._at = iter(chunks), b"", 0

    def take(self, size: int) -> bytes:
        """The next bytes; ContentError when there are not so many."""
        if self._at + size > len(self._held):
            parts, had = [self._held[self._at :]], len(self._held) - self._at
            while had < size:
                chunk = next(self._chunks, None)
                if chunk is None:
                    raise ContentError("the blocks are cut off before their end")
                parts.append(chunk)
                had += len(chunk)
            self._held, self._at = b"".join(parts), 0
        self._at += size
        return self._held[self._at - size : self._at]

    def rest(self) -> int:
        """Bytes that nobody took."""
        return len(self._held) - self._at + sum(map(len, self._chunks))


class Blocks:
    """A compression of blocks; see the module."""

    def __init__(self, size: int, before: bool, form: str, bare: str, codec: str) -> None:
        self._size, self._before, self._form, self._bare, self._codec = size, before, struct.Struct(form), bare, codec
        self._high = 1 << (8 * self._form.size - 1)

    def _inner(self) -> Compression:
        return COMPRESS.get(self._codec)

    def reach(self, size: int) -> int:
        """So many stored bytes hold the first block of content of this size, and what stands before it."""
        table = -(-size // self._size) * self._form.size if self._before else self._form.size
        return table + 2 * self._size + 64

    def decode(self, stored: bytes, size: int) -> bytes:
        return b"".join(self.decode_stream([stored], size))

    def decode_stream(self, chunks: Iterable[bytes], size: int) -> Iterator[bytes]:
        feed, inner = _Feed(chunks), self._inner()
        count = -(-size // self._size)
        data = feed.take(count * self._form.size) if self._before else b""
        for index in range(count):
            wanted = min(self._size, size - index * self._size)
            yield self._block(feed, inner, data, index, wanted)
        if over := feed.rest():
            raise ContentError(f"{over} bytes follow the last block")

    def _block(self, feed: _Feed, inner: Compression, told: bytes, index: int, wanted: int) -> bytes:
        number = told[index * self._form.size : (index + 1) * self._form.size] if told else feed.take(self._form.size)
        stored = int(self._form.unpack(number)[0])
        bare = self._bare == "same" and stored == wanted
        if self._bare == "high":
            bare, stored = bool(stored & self._high), stored & ~self._high
        data = feed.take(stored)
        if not bare:
            return inner.decode(data, wanted)
        if stored != wanted:
            raise ContentError(f"block {index} has {stored} bytes, expected {wanted}")
        return data

    def decode_start(self, stored: bytes, size: int) -> bytes:
        """The start of the first block; how many blocks there are is not told, so a table before them shows nothing."""
        if self._before:
            return b""
        try:
            number = int(self._form.unpack_from(stored)[0])
        except struct.error:
            return b""
        data = stored[self._form.size :]
        if self._bare == "high" and number & self._high:
            return data[:size]
        return self._inner().decode_start(data, size)

    def encode_stream(self, chunks: Iterable[bytes]) -> Iterator[bytes]:
        made: list[bytes] = []
        for stored in self._encoded(chunks):
            if self._before:
                made.append(stored)
            else:
                yield stored
        if self._before:
            yield b"".join(data[: self._form.size] for data in made)
            yield from (data[self._form.size :] for data in made)

    def _encoded(self, chunks: Iterable[bytes]) -> Iterator[bytes]:
        held = b""
        for chunk in chunks:
            held += chunk
            whole = len(held) - len(held) % self._size
            for at in range(0, whole, self._size):
                yield self._stored(held[at : at + self._size])
            held = held[whole:]
        if held:
            yield self._stored(held)

    def _stored(self, block: bytes) -> bytes:
        """A block behind its stored size."""
        data = b"".join(self._inner().encode_stream([block]))
        if self._bare == "never" or len(data) < len(block):
            return self._number(len(data)) + data
        return self._number(len(block) | (self._high if self._bare == "high" else 0)) + block

    def _number(self, size: int) -> bytes:
        try:
            return self._form.pack(size)
        except struct.error as error:
            raise ContentError(f"a block of {size} bytes is too long for its size") from error


def make(size: int, sizes: str, number: str, bare: str, codec: str) -> Blocks:
    return Blocks(size, sizes == "before", _FORMS[number], bare, codec)
