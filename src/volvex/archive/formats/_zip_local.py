"""A ZIP archive that has lost its directory: made again of the headers in front of the entries (APPNOTE 6.3.10, section
4.3.7)."""

from __future__ import annotations

import struct
import zlib

import numpy as np

from volvex.archive.formats import _zip_directory as zd
from volvex.layout.columns import Texts
from volvex.source import Source

HEAD = struct.Struct("<4sHHHIIIIHH")
LATER = 0x0008  # flag: CRC and sizes stand behind the content
STEP = 1 << 20
MOST = 1 << 20  # entries


def scanned(source: Source) -> tuple[zd.End, zd.Directory] | None:
    """The end and the directory that the archive would have; None when it does not begin as one. The end of the file
    counts as the place of the directory."""
    at, records, starts = 0, list[bytes](), list[tuple[int, int, int]]()
    while at + HEAD.size <= source.size and len(records) < MOST:
        mark, needs, flags, method, time, crc, stored, size, name, extra = HEAD.unpack(source.read(at, HEAD.size))
        if mark != zd.LOCAL:
            break
        rest = source.peek(at + HEAD.size, name + extra)
        begins, more = at + HEAD.size + name + extra, rest[name:]
        stored, size = _wide(more, stored, size)
        if flags & LATER and not stored:
            crc, stored, size, after = _measured(source, begins, method)
        else:
            after = begins + stored
            after += _descriptor(source, after) if flags & LATER else 0
        fields = (
            0x02014B50,
            20,
            needs,
            flags,
            method,
            time,
            crc,
            min(stored, zd.LARGE - 1),
            min(size, zd.LARGE - 1),
            name,
            len(more),
            0,
            0,
            0,
            0,
            0,
        )
        records.append(np.array([fields], zd.RECORD).tobytes() + rest[:name] + more)
        starts.append((at, stored, size))
        at = after
    if not records:
        return None
    return zd.End(source.size, 0, len(records), 0, False, source.size, source.size, b""), _directory(records, starts)


def _directory(records: list[bytes], starts: list[tuple[int, int, int]]) -> zd.Directory:
    data = b"".join(records)
    at = np.cumsum([0, *map(len, records[:-1])])
    heads = np.array([np.frombuffer(record[:46], zd.RECORD)[0] for record in records], zd.RECORD)
    start, stored, size = (np.array(column, np.int64) for column in zip(*starts, strict=True))
    return zd.Directory(
        data, at, heads, start, stored, size, Texts(data, at + 46, heads["name"].astype(np.int64), "utf-8")
    )


def _wide(extra: bytes, stored: int, size: int) -> tuple[int, int]:
    """The sizes in the extra field of the 64-bit form, where they stand there."""
    body = next((body for id, body in zd.extras(extra) if id == zd.WIDE), b"")
    if zd.LARGE in (stored, size) and len(body) >= 16:
        size, stored = struct.unpack_from("<QQ", body)
    return stored, size


def _descriptor(source: Source, at: int) -> int:
    """The bytes of what stands behind content and tells its sizes."""
    marked = source.peek(at, 4) == zd.DESCRIPTOR
    for length in (12, 20):
        end = at + length + 4 * marked
        if source.peek(end, 4) in (zd.LOCAL, zd.CENTRAL, b""):
            return end - at
    return 12 + 4 * marked


def _measured(source: Source, at: int, method: int) -> tuple[int, int, int, int]:
    """Of content whose sizes stand behind it: CRC, stored size, size, and where the next entry starts. What does not
    end reaches past the file."""
    if method != 8:
        return 0, source.size - at + 1, 0, source.size
    stream, place, total, size = zlib.decompressobj(-15), at, 0, 0
    while not stream.eof and place < source.size:
        chunk = source.read(place, min(STEP, source.size - place))
        place += len(chunk)
        try:
            out = stream.decompress(chunk)
        except zlib.error:
            break
        total, size = zlib.crc32(out, total), size + len(out)
    if not stream.eof:
        return 0, source.size - at + 1, 0, source.size
    end = place - len(stream.unused_data)
    return total, end - at, size, end + _descriptor(source, end)
