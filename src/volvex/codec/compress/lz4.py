"""LZ4 blocks, bare: neither head nor check, so that only the size tells whether one is whole (LZ4 Block Format).

A block is decoded in one piece: there is no beginning to be had without all of it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from lz4 import block

from volvex.codec.streams import library_words
from volvex.errors import ContentError


def decode(stored: bytes, size: int) -> bytes:
    try:
        content = block.decompress(stored, uncompressed_size=size)
    except (block.LZ4BlockError, ValueError, OverflowError, MemoryError) as error:
        raise ContentError(f"not a valid LZ4 block of {size} bytes: {library_words(error)}") from error
    if len(content) != size:
        raise ContentError(f"the LZ4 block decodes to {len(content)} bytes, expected {size}")
    return bytes(content)


def decode_stream(chunks: Iterable[bytes], size: int) -> Iterator[bytes]:
    yield decode(b"".join(chunks), size)


def decode_start(stored: bytes, size: int) -> bytes:
    """The literals that a block begins with: as much as can be told from a beginning of it."""
    if not stored:
        return b""
    at, length = 1, stored[0] >> 4
    while length >= 15 and at < len(stored) and (at == 1 or stored[at - 1] == 255):
        length, at = length + stored[at], at + 1
    return stored[at : at + min(length, size)]


def encode_stream(chunks: Iterable[bytes]) -> Iterator[bytes]:
    yield bytes(block.compress(b"".join(chunks), store_size=False))
