"""The keepers' journals, which are nobody's business: pages at multiples of 4, each masked by a key made of where it
lies; the directory deflated and masked; the last 24 bytes: start u32, stored length u32, length u32, entries u16, u16 =
1, CRC-32 of the stored directory, mark "KWJL"."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Mapping

from kelpwick.isles._bytes import Reader, inflate, must, span

KEY = b"wick&tallow"


def _masked(data: bytes, key: bytes) -> bytes:
    whole = key * (len(data) // len(key) + 1)
    return bytes(a ^ b for a, b in zip(data, whole, strict=False))


def _page_key(start: int) -> bytes:
    return struct.pack("<I", (start * 2654435 + 97) % (1 << 32))


def write(files: Mapping[str, bytes]) -> bytes:
    out, table = bytearray(b"KWJ1"), b""
    for name, page in files.items():
        out += b"\xff" * (-len(out) % 4)
        table += (
            struct.pack("<H", len(name.encode()))
            + name.encode()
            + struct.pack("<III", len(out), len(page), zlib.crc32(page))
        )
        out += _masked(page, _page_key(len(out)))
    stored, start = _masked(zlib.compress(table, 6), KEY), len(out)
    return (
        bytes(out)
        + stored
        + struct.pack("<IIIHHI4s", start, len(stored), len(table), len(files), 1, zlib.crc32(stored), b"KWJL")
    )


def read(data: bytes) -> dict[str, bytes]:
    must(data[:4] == b"KWJ1" and len(data) >= 28, "not a journal")
    foot, found = Reader(data[-24:]), dict[str, bytes]()
    start, stored, length, count, number, checksum = (foot.number(form) for form in "IIIHHI")
    must((number, foot.take(4), start + stored) == (1, b"KWJL", len(data) - 24), "the foot is wrong")
    hidden = span(data, start, stored)
    must(zlib.crc32(hidden) == checksum, "the directory's checksum is wrong")
    table = Reader(inflate(_masked(hidden, KEY), length))
    for _ in range(count):
        name = table.text(table.number("H"))
        where, size, check = table.number("I"), table.number("I"), table.number("I")
        must(where % 4 == 0 and where + size <= start, f"{name} lies at {where}")
        found[name] = _masked(span(data, where, size), _page_key(where))
        must(zlib.crc32(found[name]) == check, f"{name}: its checksum is wrong")
    must(table.at == length, "bytes too many in the directory")
    return found
