"""Compressions that work on content in one piece, because their streams have no beginning to be had by itself."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator

from volvex.errors import ContentError


class WholeContent:
    """A compression made from two functions on whole bytes: `decode(stored, size)` and `encode(content)`.

    `decode` gives as much as it can, at the most `size` bytes, and how many bytes of `stored` it took.
    """

    def __init__(
        self, what: str, decode: Callable[[bytes, int], tuple[bytes, int]], encode: Callable[[bytes], bytes]
    ) -> None:
        self.what, self._decode, self._encode = what, decode, encode

    def decode(self, stored: bytes, size: int) -> bytes:
        content, used = self._decode(stored, size)
        if len(content) != size:
            raise ContentError(f"the {self.what} decodes to {len(content)} bytes, expected {size}")
        if used != len(stored):
            raise ContentError(f"{len(stored) - used} bytes follow the end of the {self.what}")
        return content

    def decode_stream(self, chunks: Iterable[bytes], size: int) -> Iterator[bytes]:
        yield self.decode(b"".join(chunks), size)

    def decode_start(self, stored: bytes, size: int) -> bytes:
        return self._decode(stored, size)[0]

    def encode_stream(self, chunks: Iterable[bytes]) -> Iterator[bytes]:
        yield self._encode(b"".join(chunks))
