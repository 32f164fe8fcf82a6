"""What the boats brought home: a ledger that describes its own columns, since every harbour keeps other ones.

catches/quay.kwc    KWC1, number of columns, number of rows, CRC-32 of the rows; of each column its name, type and
                    width; the rows
types               1 a number of two bytes, 2 a half or whole litre (a float), 3 a text after its length, 4 a text as
                    wide as the column

The game refuses a wrong checksum, columns that it needs and that are missing or of another type, and a boat that it
does not have.
"""

from __future__ import annotations

import random
import struct
import zlib
from collections.abc import Iterator, Mapping
from pathlib import Path

from kelpwick import GameError
from kelpwick.words import BOATS

HEAD = struct.Struct("<4sBHI")
COLUMNS = (("id", 1, 2), ("boat", 4, 16), ("oil", 2, 4), ("note", 3, 0))
NOTES = ("calm", "a torn net", "", "fog until noon", "two lobsters")
Value = int | float | str


def write(folder: Path, rng: random.Random) -> None:
    (folder / "catches").mkdir(exist_ok=True)
    rows = b""
    for number in range(12):
        note = rng.choice(NOTES).encode()
        rows += struct.pack("<H16sf", number + 1, rng.choice(BOATS)[0].encode(), rng.randrange(1, 9) / 2)
        rows += bytes([len(note)]) + note
    shape = b"".join(bytes([len(name)]) + name.encode() + bytes([kind, wide]) for name, kind, wide in COLUMNS)
    head = HEAD.pack(b"KWC1", len(COLUMNS), 12, zlib.crc32(rows))
    (folder / "catches" / "quay.kwc").write_bytes(head + shape + rows)


def read(folder: Path) -> Mapping[str, bytes]:
    """The ledger, checked; GameError for the first thing that the game would not read."""
    data = (folder / "catches" / "quay.kwc").read_bytes()
    rows_of(data)
    return {"quay.kwc": data}


def rows_of(data: bytes) -> list[dict[str, Value]]:
    """All rows, each by the names of its columns."""
    try:
        return list(_rows(data))
    except (struct.error, IndexError, UnicodeDecodeError) as error:
        raise GameError(f"catches/quay.kwc is cut off: {error}") from error


def _rows(data: bytes) -> Iterator[dict[str, Value]]:
    mark, columns, count, total = HEAD.unpack_from(data)
    if mark != b"KWC1":
        raise GameError("catches/quay.kwc is no ledger")
    at, shape = HEAD.size, list[tuple[str, int, int]]()
    for _ in range(columns):
        size = data[at]
        shape.append((data[at + 1 : at + 1 + size].decode(), data[at + 1 + size], data[at + 2 + size]))
        at += 3 + size
    if zlib.crc32(data[at:]) != total:
        raise GameError("catches/quay.kwc has a wrong checksum")
    if missing := {column[:2] for column in COLUMNS} - {column[:2] for column in shape}:
        raise GameError(f"catches/quay.kwc has no column {min(missing)[0]} that the game can read")
    for _ in range(count):
        row: dict[str, Value] = {}
        for name, kind, wide in shape:
            row[name], at = _value(data, at, kind, wide)
        if row["boat"] not in [boat[0] for boat in BOATS]:
            raise GameError(f"catches/quay.kwc: there is no boat {row['boat']}")
        yield row
    if at != len(data):
        raise GameError(f"catches/quay.kwc has {len(data) - at} bytes too many")


def _value(data: bytes, at: int, kind: int, wide: int) -> tuple[Value, int]:
    if kind == 1:
        return int(struct.unpack_from("<H", data, at)[0]), at + 2
    if kind == 2:
        return float(struct.unpack_from("<f", data, at)[0]), at + 4
    if kind == 3:
        return data[at + 1 : at + 1 + data[at]].decode(), at + 1 + data[at]
    if kind == 4:
        return data[at : at + wide].rstrip(b"\0").decode(), at + wide
    raise GameError(f"catches/quay.kwc has a column of type {kind}")


def screen(files: Mapping[str, bytes]) -> Iterator[str]:
    """What each boat brought, and what was noted of it."""
    for row in rows_of(files["quay.kwc"]):
        yield f"  {row['id']:>3}  {row['boat']:<16}{row['oil']:>5} l  {row['note']}".rstrip()
