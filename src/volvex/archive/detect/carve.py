"""Well-known open files and compressed streams inside other files: found by their marks, and measured.

Each kind has a mark and a way to tell where such a file ends; what cannot be measured is told without a size. Reads a bounded
stretch of the file that is looked through.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from volvex.archive.detect import lengths
from volvex.archive.detect.lengths import Measured
from volvex.codec import COMPRESS
from volvex.errors import ContentError
from volvex.source import Source

WINDOW = 1 << 23  # bytes that are looked through from the start
LONGEST = 1 << 28  # bytes of one stream that are decoded to find its end
MOST_TRIES, MOST_FOUND = 40_000, 1000
STEP = 1 << 18


@dataclass(frozen=True)
class Find:
    """A file inside another. `size` is None when nothing tells it; `holds` is what a compressed stream holds."""

    offset: int
    kind: str
    size: int | None
    holds: int | None = None


def _png(source: Source, at: int) -> Measured:
    place = at + 8
    while place + 12 <= source.size:
        size, kind = struct.unpack(">I4s", source.read(place, 8))
        if size > 1 << 30 or not kind.isalpha():
            return None
        place += 12 + size
        if kind == b"IEND":
            return place - at, None
    return None


def _riff(source: Source, at: int) -> Measured:
    head = source.peek(at, 12)
    size = int.from_bytes(head[4:8], "little") + 8
    known = head[8:12] in (b"WAVE", b"WEBP", b"AVI ")
    return (
        (size + size % 2 if at + size + size % 2 <= source.size else size, None)
        if known and at + size <= source.size
        else None
    )


def _jpeg(source: Source, at: int) -> Measured:
    return _until(source, at, b"\xff\xd9", 2) if source.peek(at + 3, 1) in (b"\xe0", b"\xe1", b"\xdb") else None


def _gif(source: Source, at: int) -> Measured:
    return _until(source, at, b"\0\x3b", 2) if source.peek(at + 4, 2) in (b"7a", b"9a") else None


def _pdf(source: Source, at: int) -> Measured:
    return _until(source, at, b"%%EOF", 5)


def _until(source: Source, at: int, mark: bytes, over: int) -> Measured:
    found = source.peek(at, 1 << 24).find(mark)
    return (found + over, None) if found > 0 else None


def _ogg(source: Source, at: int) -> Measured:
    place = at
    while source.peek(place, 4) == b"OggS":
        head = source.peek(place, 27)
        if len(head) < 27 or head[4]:
            break
        laces = source.peek(place + 27, head[26])
        place += 27 + len(laces) + sum(laces)
    return (min(place, source.size) - at, None) if place > at else None


def _stream(codec: str) -> Callable[[Source, int], Measured]:
    """A compressed stream, decoded to its end: only then is it one."""

    def measure(source: Source, at: int) -> Measured:
        made: Any = COMPRESS.get(codec)
        decoder = getattr(made, "_codec", made).decoder()
        place, held = at, 0
        try:
            while not decoder.eof and place < source.size and held <= LONGEST:
                data = source.peek(place, STEP if place > at else 512)  # most that only look like a stream fail at once
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


_KINDS: tuple[tuple[str, bytes, Callable[[Source, int], Measured]], ...] = (  # kind, an expression for how it begins, its size
    ("png", rb"\x89PNG\r\n\x1a\n", _png), ("riff", rb"RIFF", _riff), ("jpeg", rb"\xff\xd8\xff", _jpeg), ("gif", rb"GIF8", _gif),
    ("pdf", rb"%PDF-", _pdf), ("ogg", rb"OggS", _ogg), ("gzip", rb"\x1f\x8b\x08", _stream("gzip")),
    ("xz", rb"\xfd7zXZ\0", _stream("xz")), ("zstd", rb"\x28\xb5\x2f\xfd", _stream("zstd")), ("bzip2", rb"BZh[1-9]", _stream("bzip2")),
    ("lz4", rb"\x04\x22\x4d\x18", _stream("lz4frame")), ("zlib", rb"\x78[\x01\x5e\x9c\xda]", _stream("zlib")),
    ("dds", rb"DDS \x7c\0\0\0", lengths.dds), ("ktx", rb"\xabKTX [12][01]\xbb\r\n\x1a\n", lengths.ktx), ("midi", rb"MThd\0\0\0\x06", lengths.midi),
    ("mp3", rb"ID3[\x02-\x04]", lengths.mp3), ("mp3", rb"\xff[\xe2\xe3\xf2\xf3\xfa\xfb][\x10-\xef]", lengths.mp3), ("bmp", rb"BM.{4}\0\0\0\0", lengths.bmp),
    ("tga", rb"\0[\0\x01][\x01-\x03]\0\0", lengths.tga), ("ttf", rb"\0\x01\0\0\0[\x04-\x40]", lengths.sfnt), ("ttf", rb"true\0[\x04-\x40]", lengths.sfnt), ("otf", rb"OTTO\0[\x04-\x40]", lengths.sfnt),
    ("ttc", rb"ttcf\0[\x01\x02]", lengths.ttc), ("woff", rb"wOFF", lengths.woff), ("woff2", rb"wOF2", lengths.woff),
    ("mo", rb"\xde\x12\x04\x95", lengths.mo), ("mo", rb"\x95\x04\x12\xde", lengths.mo),
)  # fmt: skip
# each begins with a byte of its own, and there is no group: only then are places where none can begin passed by quickly
_BEGINS = re.compile(b"|".join(begin for _, begin, _ in _KINDS), re.S)
_EACH = [(kind, re.compile(begin, re.S).fullmatch, measure) for kind, begin, measure in _KINDS]


def finds(source: Source, start: int = 0, window: int = WINDOW) -> Iterator[Find]:
    """Files inside a file, in their order; what lies within one that was found is not looked for."""
    data = source.peek(start, window)
    done = tries = found = 0
    place = _BEGINS.search(data)
    while place is not None and tries < MOST_TRIES and found < MOST_FOUND:
        kind, _, measure = next(one for one in _EACH if one[1](place[0]))
        tries += 1
        told = measure(source, start + place.start())
        if told is not None:
            found += 1
            kind = {b"WAVE": "wav", b"WEBP": "webp", b"AVI ": "avi"}.get(
                data[place.start() + 8 : place.start() + 12], kind
            )
            yield Find(start + place.start(), kind, *told)
        done = place.start() + (told[0] if told is not None and told[0] else 1)
        place = _BEGINS.search(data, done)
