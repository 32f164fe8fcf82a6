"""No compression: the content is the stored bytes."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from volvex.errors import ContentError


def decode(stored: bytes, size: int) -> bytes:
    if len(stored) != size:
        raise ContentError(f"{len(stored)} bytes are stored without compression, expected {size}")
    return stored


def decode_stream(chunks: Iterable[bytes], size: int) -> Iterator[bytes]:
    done = 0
    for chunk in chunks:
        done += len(chunk)
        if done > size:
            break
        yield chunk
    if done != size:
        raise ContentError(f"stored without compression, but not in {size} bytes, its size")


def decode_start(stored: bytes, size: int) -> bytes:
    return stored[:size]


def content_size(chunks: Iterable[bytes], most: int) -> int:
    return sum(map(len, chunks))


def encode_stream(chunks: Iterable[bytes]) -> Iterator[bytes]:
    yield from chunks
