"""Deflate streams of a wanted size: for a directory whose places depend on how small it becomes.

A flush in the midst of a stream takes one to five bytes and changes nothing of what it holds (RFC 1951, 3.2.4), so
that a stream can be made a little longer than it need be without anything behind its end.
"""

from __future__ import annotations

import itertools
import zlib
from collections.abc import Iterator

WINDOWS = {"zlib": 15, "deflate": -15, "gzip": 31}
LEVELS = (9, 6, 1)
STRATEGIES = (zlib.Z_DEFAULT_STRATEGY, zlib.Z_FILTERED, zlib.Z_FIXED, zlib.Z_HUFFMAN_ONLY)
TRIES = 48  # places of the first flush
MOST = 1 << 18  # bytes of content for which it is tried
FURTHEST = 64  # bytes that are made up by flushes


def fitted(name: str, data: bytes, size: int) -> bytes | None:
    """A stream of exactly `size` bytes, by the codec's name (`zlib`, `deflate`); None when none is found."""
    if name not in WINDOWS or len(data) > MOST:
        return None
    for stream in _streams(WINDOWS[name], data, size):
        if len(stream) == size:
            return stream
    return None


def _streams(window: int, data: bytes, size: int) -> Iterator[bytes]:
    for level, strategy in itertools.product(LEVELS, STRATEGIES):
        plain = _flushed(window, level, strategy, data, [])
        yield plain
        missing = size - len(plain)
        if not 0 < missing <= FURTHEST:
            continue
        for count in range(1, min(missing, len(data)) + 1):
            for first in range(min(TRIES, len(data))):
                step = (len(data) - first) // count
                yield _flushed(window, level, strategy, data, [first + step * number for number in range(count)])


def _flushed(window: int, level: int, strategy: int, data: bytes, places: list[int]) -> bytes:
    """A stream with a flush behind so many bytes each time."""
    packing, parts, at = zlib.compressobj(level, zlib.DEFLATED, window, 9, strategy), [], 0
    for place in places:
        parts += [packing.compress(data[at:place]), packing.flush(zlib.Z_PARTIAL_FLUSH)]
        at = place
    parts += [packing.compress(data[at:]), packing.flush()]
    return b"".join(parts)
