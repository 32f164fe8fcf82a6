"""The tables: lenses, and which lamp has which of them.

Lenses ("KWLE", big-endian): version u16 = 1, count u16, the names' start u32 and length u32, CRC-32 of the records u32;
records sorted by id: id u32, name u32 (where it starts among the names), glass u8, reach u16, weight f32, focus / 5
u16, fitted u8, polish u8 (bit 0 clean, bits 1 to 3 grade); the names, each up to a zero. Fittings ("KWFT",
little-endian): version u16 = 1, count u32, size u32, stored size u32, start u32, CRC-32 of the size's bytes u32; a zlib
stream of records: lamp and keeper (each u8 length, UTF-8), lens u32, screws u8, since i16, note (u16 length, UTF-8).
"""

from __future__ import annotations

import struct
import zlib
from dataclasses import dataclass

from kelpwick.isles._bytes import Reader, closed, inflate, must

LENSES, FITTINGS = "tables/lenses.kwb", "tables/fittings.kwb"
GLASS = ("crown", "flint", "pressed")
_LENSES = (  # id, name, glass, reach, weight, focus, clean, grade
    (101, "Penny glass", 2, 5, 0.4, 35, 1, 1),
    (102, "Bullseye", 0, 8, 2.5, 120, 1, 3),
    (103, "Half drum", 0, 12, 14.75, 250, 0, 4),
    (104, "Drum", 1, 16, 31.1, 375, 1, 5),
    (105, "Great drum", 1, 20, 88.8, 500, 1, 7),
    (106, "Cracked drum", 1, 9, 31.1, 375, 0, 1),
)
_FITTINGS = (  # lamp, keeper, lens, screws, since, note
    ("harbour_1", "ansa", 101, 3, 1851, "Turn it left."),
    ("mole_red", "bero", 102, 4, 1860, ""),
    ("gull_rock", "bero", 103, 6, 1858, "Grease in the frost."),
    ("fresnel_1", "cade", 104, 8, 1866, ""),
    ("fresnel_3", "dunna", 103, 6, 1866, "Ansa Tolk lent it, the Tolkham works want it back."),
    ("north_skerry", "elvi", 105, 12, 1871, ""),
    ("old_light", "farro", 101, 2, -3, "Before the books."),
)


@dataclass(frozen=True)
class Lens:
    name: str
    glass: str
    reach: int
    weight: float
    focus: int
    fitted: int
    clean: bool


@dataclass(frozen=True)
class Fitting:
    keeper: str
    lens: int
    screws: int
    since: int
    note: str


def files() -> dict[str, bytes]:
    return {LENSES: _lenses(), FITTINGS: _fittings()}


def _lenses() -> bytes:
    names, records = bytearray(), bytearray()
    for key, name, glass, reach, weight, focus, clean, grade in _LENSES:
        fitted = sum(fitting[2] == key for fitting in _FITTINGS)
        records += struct.pack(
            ">IIBHfHBB", key, len(names), glass, reach, weight, focus // 5, fitted, clean | grade << 1
        )
        names += name.encode() + b"\0"
    head = struct.pack(">4sHHIII", b"KWLE", 1, len(_LENSES), 20 + len(records), len(names), zlib.crc32(records))
    return head + bytes(records + names)


def _fittings() -> bytes:
    body = bytearray()
    for lamp, keeper, lens, screws, since, note in _FITTINGS:
        for text in (lamp, keeper):
            body += bytes([len(text)]) + text.encode()
        body += struct.pack("<IBhH", lens, screws, since, len(note.encode())) + note.encode()
    stored = zlib.compress(bytes(body), 6)
    return struct.pack("<4sHIIIII", b"KWFT", 1, len(_FITTINGS), len(body), len(stored), 26, zlib.crc32(body)) + stored


def read_lenses(data: bytes) -> dict[int, Lens]:
    """The lenses by id; GameError when anything is not as it must be."""
    reader = Reader(data, ">")
    must(reader.take(4) == b"KWLE" and reader.number("H") == 1, "lenses: not a table of version 1")
    count, start, length, checksum = (reader.number(text) for text in "HIII")
    must(start == 20 + 19 * count and start + length == len(data), "lenses: the names are misplaced")
    must(zlib.crc32(data[20:start]) == checksum, "lenses: the checksum is wrong")
    found: dict[int, Lens] = {}
    for _ in range(count):
        key, at, glass, reach = (reader.number(text) for text in "IIBH")
        (weight,) = struct.unpack(">f", reader.take(4))
        focus, fitted, polish = (reader.number(text) for text in "HBB")
        must(not found or key > max(found), f"lenses: {key} is there twice, or not in its order")
        must(glass < len(GLASS) and at < length, f"lenses: {key} has glass {glass}, and a name at {at}")
        found[key] = Lens(closed(data, start + at), GLASS[glass], reach, weight, focus * 5, fitted, bool(polish & 1))
    return found


def read_fittings(data: bytes) -> dict[str, Fitting]:
    """The fittings by lamp; GameError when anything is not as it must be."""
    head = Reader(data)
    must(head.take(4) == b"KWFT" and head.number("H") == 1, "fittings: not a table of version 1")
    count, size, stored, start, checksum = (head.number("I") for _ in range(5))
    must(start == 26 and start + stored == len(data), "fittings: the records are misplaced")
    body = inflate(data[start:], size)
    must(zlib.crc32(body) == checksum, "fittings: the checksum is wrong")
    reader, found = Reader(body), dict[str, Fitting]()
    for _ in range(count):
        lamp, keeper = (reader.text(reader.number("B")) for _ in range(2))
        lens, screws, since = (reader.number(text) for text in "IBh")
        must(lamp not in found, f"fittings: {lamp} is there twice")
        found[lamp] = Fitting(keeper, lens, screws, since, reader.text(reader.number("H")))
    must(reader.at == len(body), "fittings: bytes behind the last record")
    return found
