"""Fonts. Source: OpenType 1.9."""

from __future__ import annotations

import struct

from volvex.archive.detect.types._base import FileType, Measured
from volvex.source import Source


def _sfnt_length(source: Source, at: int, origin: int | None = None) -> Measured:
    count = int.from_bytes(source.peek(at + 4, 2), "big")
    table = source.peek(at + 12, 16 * count)
    if not 4 <= count <= 64 or len(table) < 16 * count:
        return None
    ends = []
    for place in range(0, len(table), 16):
        tag, start, size = struct.unpack_from(">4s4xII", table, place)
        if not all(32 <= byte < 127 for byte in tag):
            return None
        ends.append(start + size)
    size = max(ends)
    size += min(-size % 4, max(0, source.size - at - size))  # tables are filled up to four bytes, the last as well
    end = (at if origin is None else origin) + size
    return (size, None) if end <= source.size and size > 12 + len(table) else None


def _sfnt_detail(head: bytes) -> str:
    return f"{int.from_bytes(head[4:6], 'big')} tables"


def _ttc_length(source: Source, at: int) -> Measured:
    head = source.peek(at, 12)
    count = int.from_bytes(head[8:12], "big")
    fonts = source.peek(at + 12, 4 * count) if head[4:8] in (b"\0\1\0\0", b"\0\2\0\0") and 0 < count <= 256 else b""
    ends = [
        _sfnt_length(source, at + int.from_bytes(fonts[place : place + 4], "big"), at)
        for place in range(0, len(fonts), 4)
    ]
    sizes = [end[0] for end in ends if end is not None and end[0] is not None]
    return (max(sizes), None) if sizes and len(sizes) == count else None


def _ttc_detail(head: bytes) -> str:
    return f"version {head[5]}.{head[7]}, {int.from_bytes(head[8:12], 'big')} fonts"


def _woff_length(source: Source, at: int) -> Measured:
    size = int.from_bytes(source.peek(at + 8, 4), "big")
    return (size, None) if 44 <= size <= source.size - at else None


def _is_ttf(head: bytes) -> bool:
    return len(head) > 28 and 4 <= head[5] <= 64 and all(32 <= byte < 127 for byte in head[12:16])


TYPES = (
    FileType(
        "ttf",
        ((b"\0\x01\0\0\0", 0),),
        fits=_is_ttf,
        detail=_sfnt_detail,
        embedded=rb"\0\x01\0\0\0[\x04-\x40]",
        measure=_sfnt_length,
    ),
    FileType(
        "ttf",
        ((b"true\0", 0),),
        fits=_is_ttf,
        detail=_sfnt_detail,
        embedded=rb"true\0[\x04-\x40]",
        measure=_sfnt_length,
    ),
    FileType("otf", ((b"OTTO", 0),), detail=_sfnt_detail, embedded=rb"OTTO\0[\x04-\x40]", measure=_sfnt_length),
    FileType("ttc", ((b"ttcf", 0),), detail=_ttc_detail, embedded=rb"ttcf\0[\x01\x02]", measure=_ttc_length),
    FileType("woff", ((b"wOFF", 0),), embedded=rb"wOFF", measure=_woff_length),
    FileType("woff2", ((b"wOF2", 0),), embedded=rb"wOF2", measure=_woff_length),
)
