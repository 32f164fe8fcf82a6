"""Tide tables: mark "II" or "MM" for the order of bytes, mark "KWV", version u8 (1 or 2), entries u16, start of the
table u32, in version 2 also a station u32; the table: name in 48 bytes of UTF-16, start u32, size u32, in version 2 the
year u16; at the tail the SHA-1 of all before it."""

from __future__ import annotations

import hashlib
import struct
from collections.abc import Mapping

from kelpwick.isles._bytes import Reader, must, span

STATION, YEAR = 0x0B17, 1887


def write(files: Mapping[str, bytes], order: str = "MM", version: int = 2) -> bytes:
    sign, code = (">", "utf-16-be") if order == "MM" else ("<", "utf-16-le")
    body, table, start = b"", b"", 16 if version == 2 else 12
    for name, content in files.items():
        table += name.encode(code).ljust(48, b"\0") + struct.pack(sign + "II", start + len(body), len(content))
        table += struct.pack(sign + "H", YEAR) if version == 2 else b""
        body += content
    head = order.encode() + b"KWV" + struct.pack(sign + "BHI", version, len(files), start + len(body))
    head += struct.pack(sign + "I", STATION) if version == 2 else b""
    whole = head + body + table
    return whole + hashlib.sha1(whole).digest()


def read(data: bytes) -> dict[str, bytes]:
    must(len(data) > 32 and data[2:5] == b"KWV" and data[:2] in (b"II", b"MM"), "not tides")
    must(hashlib.sha1(data[:-20]).digest() == data[-20:], "the digest at the tail is wrong")
    sign, code = (">", "utf-16-be") if data[:2] == b"MM" else ("<", "utf-16-le")
    reader, found = Reader(data, sign), dict[str, bytes]()
    reader.at = 5
    version, count, start = reader.number("B"), reader.number("H"), reader.number("I")
    must(version in (1, 2) and (version == 1 or reader.number("I") == STATION), "the head is wrong")
    reader.at = start
    for _ in range(count):
        name = reader.take(48).decode(code, "replace").rstrip("\0")
        found[name] = span(data, reader.number("I"), reader.number("I"))
        must(version == 1 or reader.number("H") == YEAR, f"{name}: another year")
    must(reader.at == len(data) - 20, "the table does not end before the digest")
    return found
