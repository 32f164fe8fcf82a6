"""The directory of a ZIP archive as columns, and its end records (APPNOTE 6.3.10, sections 4.3.12 to 4.3.16)."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import as_strided

from volvex.errors import FormatError
from volvex.layout.columns import Array, Texts
from volvex.source import Source

LOCAL, CENTRAL, END = b"PK\x03\x04", b"PK\x01\x02", b"PK\x05\x06"
END64, LOCATOR, DESCRIPTOR = b"PK\x06\x06", b"PK\x06\x07", b"PK\x07\x08"
LONG_COMMENT = 65535
LARGEST = 1 << 30  # bytes of a directory, which is held in memory
LARGE, MANY = 0xFFFFFFFF, 0xFFFF  # a number that stands in the 64-bit form
WIDE, AES = 0x0001, 0x9901  # ids of extra fields: 64-bit sizes, the AES form

RECORD = np.dtype(
    [
        ("mark", "<u4"),
        ("made", "<u2"),
        ("needs", "<u2"),
        ("flags", "<u2"),
        ("method", "<u2"),
        ("time", "<u4"),
        ("crc", "<u4"),
        ("stored", "<u4"),
        ("size", "<u4"),
        ("name", "<u2"),
        ("extra", "<u2"),
        ("comment", "<u2"),
        ("disk", "<u2"),
        ("inner", "<u2"),
        ("outer", "<u4"),
        ("start", "<u4"),
    ]
)


@dataclass(frozen=True)
class End:
    """Where the directory is and what follows it."""

    start: int  # of the directory, in the file
    size: int
    count: int
    shift: int  # bytes in front of the archive that its places do not count
    wide: bool  # whether there is an end record in the 64-bit form
    between: int  # where what follows the directory starts
    at: int  # of the end record
    comment: bytes


def find_end(source: Source) -> int | None:
    """Where the end record stands: the last whose comment reaches exactly to the end of the file."""
    size = min(source.size, LONG_COMMENT + 22)
    tail = source.peek(source.size - size, size)
    at = tail.rfind(END)
    while at >= 0:
        if len(tail) >= at + 22 and at + 22 + int.from_bytes(tail[at + 20 : at + 22], "little") == len(tail):
            return source.size - size + at
        at = tail.rfind(END, 0, at + 3)
    return None


def read_end(source: Source) -> End:
    """The end records; FormatError when there are none, or they lead nowhere."""
    at = find_end(source)
    if at is None:
        raise FormatError(
            source.name,
            "the end record of a ZIP archive is missing",
            offset=source.size,
            hint="a fresh copy of the file: it may be cut off",
        )
    disk, of, here, count, size, start, long = struct.unpack("<HHHHIIH", source.read(at + 4, 18))
    between, wide = at, False
    if at >= 20 and source.read(at - 20, 4) == LOCATOR and (LARGE in (size, start) or MANY in (count, disk, of)):
        between, wide = _end64(source, at), True
        count, size, start = struct.unpack("<32x3Q", source.read(between, 56))
    elif disk or of or here != count:
        raise FormatError(
            source.name,
            f"this is volume {disk + 1} of a ZIP archive in several volumes",
            offset=at,
            hint="the pieces beside it, under one name with numbers behind it",
        )
    shift = between - size - start
    if shift < 0 and -shift != getattr(
        source, "origin", 0
    ):  # places may count from the start of the file it is part of
        raise FormatError(
            source.name,
            f"{size} bytes of directory from {start:#x} on do not fit in front of the end record",
            offset=at,
            hint="a fresh copy of the file: it may be cut off",
        )
    if size > LARGEST:
        raise FormatError(
            source.name,
            f"a directory of {size:,} bytes",
            offset=at,
            hint="a fresh copy of the file: no game has one so large",
        )
    if size < count * 46:
        raise FormatError(
            source.name, f"a directory of {size} bytes cannot hold {count} records", offset=at, field="end.count"
        )
    return End(start + shift, size, count, shift, wide, between, at, source.read(at + 22, long))


def _end64(source: Source, at: int) -> int:
    """Where the end record of the 64-bit form is: where the locator says, or right in front of it."""
    number = int.from_bytes(source.read(at - 12, 8), "little")
    for place in (at - 76, number):
        if 0 <= place <= at - 76 and source.peek(place, 4) == END64:
            return place
    raise FormatError(
        source.name,
        "the 64-bit end record is missing",
        offset=at - 20,
        field="locator.start",
        hint="a fresh copy of the file: it may be damaged",
    )


@dataclass
class Directory:
    """All records as columns; places count from the file's start, sizes are the true ones."""

    data: bytes
    at: Array  # of each record, in `data`
    heads: Array  # of type RECORD, as stored
    start: Array
    stored: Array
    size: Array
    names: Texts

    def extra(self, row: int) -> bytes:
        """The extra fields of a record."""
        first = int(self.at[row]) + 46 + int(self.heads["name"][row])
        return self.data[first : first + int(self.heads["extra"][row])]

    def comment(self, row: int) -> bytes:
        """The comment of a record."""
        first = int(self.at[row]) + 46 + int(self.heads["name"][row]) + int(self.heads["extra"][row])
        return self.data[first : first + int(self.heads["comment"][row])]


def read_directory(source: Source, end: End) -> Directory:
    """Walk the records; FormatError for the first that is none."""
    data = source.read(end.start, end.size)
    at = _places(source, data, end)
    flat = np.frombuffer(data, np.uint8)
    heads = np.zeros(0, RECORD)
    if len(at):  # each row of this view is a record's head, wherever it starts; taking rows copies them as they are
        rows = as_strided(flat, (len(flat) - 45, 46), (1, 1), writeable=False)
        heads = np.ascontiguousarray(rows[at]).view(RECORD).reshape(-1)
    names = Texts(data, at + 46, heads["name"].astype(np.int64), "utf-8")
    start, stored, size = (heads[name].astype(np.int64) for name in ("start", "stored", "size"))
    found = Directory(data, at, heads, start, stored, size, names)
    _widen(source, end, found)
    start += end.shift
    return found


def _places(source: Source, data: bytes, end: End) -> Array:
    """Where the records start."""
    found = _marks(data, end.count)
    return found if found is not None else _walked(source, data, end)


def _marks(data: bytes, count: int) -> Array | None:
    """All places of the mark, when they are just the records: each then ends where the next one starts."""
    flat = np.frombuffer(data, np.uint8)
    if len(flat) < 46:
        return None
    same = flat[:-45] == CENTRAL[0]
    for place in (1, 2, 3):
        same &= flat[place : len(flat) - 45 + place] == CENTRAL[place]
    at = np.flatnonzero(same)
    if len(at) != count or not count or at[0]:
        return None
    lengths = [
        flat[at + place].astype(np.int64) + flat[at + place + 1].astype(np.int64) * 256 for place in (28, 30, 32)
    ]
    ends = at + 46 + lengths[0] + lengths[1] + lengths[2]
    return at if bool((ends[:-1] == at[1:]).all()) and ends[-1] <= len(data) else None


def _walked(source: Source, data: bytes, end: End) -> Array:
    """The same one by one, which tells what is wrong where."""
    at, places, last = 0, list[int](), len(data) - 46
    lengths = struct.Struct("<4s24xHHH").unpack_from
    for _ in range(end.count):
        if at > last:
            raise FormatError(
                source.name, f"the directory ends after {len(places)} of {end.count} records", offset=end.start + at
            )
        mark, name, extra, comment = lengths(data, at)
        if mark != CENTRAL:
            raise FormatError(
                source.name,
                f"{mark!r}, expected {CENTRAL!r}",
                offset=end.start + at,
                field=f"directory[{len(places)}].mark",
                hint="a fresh copy of the file: its directory is damaged",
            )
        places.append(at)
        at += 46 + name + extra + comment
    if at > len(data):
        raise FormatError(
            source.name, "the last record of the directory reaches past its end", offset=end.start + places[-1]
        )
    return np.array(places, np.int64)


def _widen(source: Source, end: End, found: Directory) -> None:
    """Numbers that stand in the extra field of the 64-bit form."""
    heads = found.heads
    wide = (heads["size"] == LARGE) | (heads["stored"] == LARGE) | (heads["start"] == LARGE)
    for row in np.flatnonzero(wide).tolist():
        body = next((body for id, body in extras(found.extra(row)) if id == WIDE), b"")
        for column, name in ((found.size, "size"), (found.stored, "stored"), (found.start, "start")):
            if heads[name][row] == LARGE:
                if len(body) < 8:
                    if body or name == "start":
                        raise FormatError(
                            source.name,
                            f"the 64-bit {name} is missing",
                            offset=end.start + int(found.at[row]),
                            field=f"directory[{row}].extra",
                        )
                    continue
                number = int.from_bytes(body[:8], "little")
                if number >= 1 << 62:
                    raise FormatError(
                        source.name,
                        f"a {name} of {number} bytes",
                        offset=end.start + int(found.at[row]),
                        field=f"directory[{row}].extra",
                    )
                column[row], body = number, body[8:]


def extras(data: bytes) -> Iterator[tuple[int, bytes]]:
    """The extra fields one by one: id and body. What is no whole field is left out."""
    at = 0
    while at + 4 <= len(data):
        id, size = struct.unpack_from("<HH", data, at)
        if at + 4 + size > len(data):
            return
        yield id, data[at + 4 : at + 4 + size]
        at += 4 + size


def without(data: bytes, *ids: int) -> bytes:
    """Extra fields but for some; what is no whole field stays."""
    out, at = b"", 0
    while at + 4 <= len(data):
        id, size = struct.unpack_from("<HH", data, at)
        if at + 4 + size > len(data):
            break
        if id not in ids:
            out += data[at : at + 4 + size]
        at += 4 + size
    return out + data[at:]
