"""Compressed streams: decoded to their end, since nothing else gives it. A type with `codec` is also a folder of one
file."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from volvex.archive.detect.types._base import FileType, Measured
from volvex.codec import COMPRESS
from volvex.errors import ContentError
from volvex.source import Source

_LONGEST = 1 << 28  # bytes of one stream that are decoded to find its end
_STEP = 1 << 18


def _stream(codec: str) -> Callable[[Source, int], Measured]:
    """A compressed stream, decoded to its end: only then is it one."""

    def measure(source: Source, at: int) -> Measured:
        made: Any = COMPRESS.get(codec)
        decoder = getattr(made, "_codec", made).decoder()
        place, held = at, 0
        try:
            while not decoder.eof and place < source.size and held <= _LONGEST:
                data = source.peek(
                    place, _STEP if place > at else 512
                )  # most that only look like a stream fail at once
                place += len(data)
                out = decoder.decompress(data, 1 << 22)
                held += len(out)
                while out and not decoder.eof:
                    out = decoder.decompress(b"", 1 << 22)
                    held += len(out)
        except getattr(made, "_codec", made).errors:
            return None
        except ContentError:
            return None
        return (place - len(decoder.unused_data) - at, held) if decoder.eof and held else None

    return measure


TYPES = (
    FileType(
        "gzip",
        ((b"\x1f\x8b\x08", 0),),
        embedded=rb"\x1f\x8b\x08",
        measure=_stream("gzip"),
        codec="gzip",
        extensions=("gz", "gzip"),
        holds=True,
    ),
    FileType(
        "xz",
        ((b"\xfd7zXZ\0", 0),),
        embedded=rb"\xfd7zXZ\0",
        measure=_stream("xz"),
        codec="xz",
        extensions=("xz",),
        holds=True,
    ),
    FileType(
        "zstd",
        ((b"\x28\xb5\x2f\xfd", 0),),
        embedded=rb"\x28\xb5\x2f\xfd",
        measure=_stream("zstd"),
        codec="zstd",
        extensions=("zst", "zstd"),
        holds=True,
    ),
    FileType(
        "bzip2",
        ((b"BZh", 0),),
        embedded=rb"BZh[1-9]",
        measure=_stream("bzip2"),
        codec="bzip2",
        extensions=("bz2",),
        holds=True,
    ),
    FileType(
        "lz4",
        ((b"\x04\x22\x4d\x18", 0),),
        embedded=rb"\x04\x22\x4d\x18",
        measure=_stream("lz4frame"),
        codec="lz4frame",
        extensions=("lz4",),
        holds=True,
    ),
    FileType(
        "zlib",
        embedded=rb"\x78[\x01\x5e\x9c\xda]",
        measure=_stream("zlib"),
        codec="zlib",
        weak=(b"\x78\x01", b"\x78\x5e", b"\x78\x9c", b"\x78\xda"),
        extensions=("zz", "z", "zlib"),
        holds=True,
    ),
    FileType("lzma", codec="lzma", weak=(b"\x5d\0\0",), extensions=("lzma",), holds=True),
)
