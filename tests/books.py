"""Made-up tables, texts and scenes for the tests, and layouts that read them."""

from __future__ import annotations

import struct
import zlib

from kelpwick import almanac
from kelpwick.almanac import ledgers, rules, sayings, scenes
from volvex.data import Document, require_data
from volvex.data.model.layout_document import LayoutDocument
from volvex.data.model.scene import SceneData
from volvex.layout import Library
from volvex.layout.language.parser import parse_layout
from volvex.source import BytesSource

LIBRARY = Library()
BOOK = almanac.NAME
FILES = {**ledgers.files(), **sayings.files(), **scenes.files(), **rules.files()}
TABLE = """layout "barrels" kind table
little endian
known by "BARL" at 0
block head at 0
    mark    4 bytes  is "BARL"
    count   u16      count of barrels
    checksum    u32      crc32 of barrels
    start   u16      start of words
    length  u16      length of words
block barrels after head repeats
    id      u16           id
    name    u16           text in words
    label   u8            text number in words
    deep    u16 from start of head   text in words
    good    u8            value { 0 colza, 1 tallow }
    big     u64           value
    small   i8            value
    wide    i24 big       value
    half    f16           value
    price   f32           value
    weight  f64 big       value
    code    text 6        value
    raw     3 bytes       value
    marks   array of 2 u16   value
    berth   u16 x 5 plus 100 value
    mask    u8 xor 0x5a   value
    flags   u8            described
    wet     flags bits 0  value { 0 no, 1 yes }
    tier    flags bits 1 to 4  value
    rest    flags bits 5 to 7  kept
    owner   u16           refers to keepers
    secret  u32           kept
block words repeats
    word    text zero     texts
"""
WORDS = (b"Ale", b"Brine", b"Oil of colza")
_STARTS = (0, 4, 10)
ROW = struct.Struct("<HHBHBQb3s2sf8s6s3s2HHBBHI")


def row(number: int, **other: object) -> bytes:
    """A barrel's record."""
    record = {
        "big": (1 << 64) - 1 - number,
        "price": 0.1 + number,
        "weight": 0.1 * number,
        "code": b"00%d" % number,
        "flags": 0xA3,
        "good": 1,
    } | other
    start = 14 + ROW.size * 3
    return ROW.pack(
        number,
        _STARTS[number % 3],
        (number + 1) % 3,
        start + _STARTS[2],
        record["good"],
        record["big"],
        -number,
        (1000 * number).to_bytes(3, "big"),
        struct.pack("<e", 1.5),
        record["price"],
        struct.pack(">d", record["weight"]),
        record["code"],
        b"\x01\x02\xff",
        7,
        number,
        3,
        0x5A ^ number,
        record["flags"],
        40 + number,
        0xDEAD0000 + number,
    )


def barrels(rows: list[bytes] | None = None) -> bytes:
    """A file of three barrels."""
    body = b"".join(rows or [row(1), row(2), row(3)])
    words = b"".join(word + b"\0" for word in WORDS)
    return (
        b"BARL"
        + struct.pack("<HIHH", len(body) // ROW.size, zlib.crc32(body), 14 + len(body), len(words))
        + body
        + words
    )


def table(data: bytes | None = None, text: str = TABLE) -> LayoutDocument:
    """The barrels as a document."""
    return LayoutDocument(
        parse_layout(text, "barrels.layout"), BytesSource(barrels() if data is None else data, "barrels")
    )


def laid_out(text: str, data: bytes, name: str = "test") -> LayoutDocument:
    """A document by a layout's text."""
    layout = parse_layout(text, "test.layout")
    return (SceneData if layout.kind == "scene" else LayoutDocument)(layout, BytesSource(data, name))


def book(path: str) -> Document:
    """A file of the almanac as a document."""
    return require_data(FILES[path], LIBRARY, path)


def opened(data: bytes | str, name: str = "f") -> Document:
    """Some text as a document."""
    return require_data(data.encode() if isinstance(data, str) else data, LIBRARY, name)
