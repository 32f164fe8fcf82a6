"""Depths around the islands. The game asks by FNV-1a of the path (64 bits), so the table is sorted by that and has no
names.

Mark "KWSD", entries u32; the table: key u64, start / 16 u32, stored size u32, size u32; content in blocks of 1024
bytes: all stored sizes (u16), then the blocks, deflated unless that makes them longer. Content at multiples of 16,
zeros between."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Mapping

from kelpwick.isles._bytes import Reader, inflate, must, span

BLOCK = 1024


def key_of(path: str) -> int:
    """FNV-1a of a path, 64 bits."""
    key = 0xCBF29CE484222325
    for byte in path.encode():
        key = (key ^ byte) * 0x100000001B3 % (1 << 64)
    return key


def write(files: Mapping[str, bytes]) -> bytes:
    rows, start = [], 8 + 20 * len(files)
    body = bytearray(start)
    for path, content in files.items():
        parts = [content[at : at + BLOCK] for at in range(0, len(content), BLOCK)]
        blocks = [min(zlib.compress(part, 6), part, key=len) for part in parts]
        stored = b"".join(struct.pack("<H", len(block)) for block in blocks) + b"".join(blocks)
        body += bytes(-len(body) % 16)
        rows.append(struct.pack("<QIII", key_of(path), len(body) // 16, len(stored), len(content)))
        body += stored
    rows.sort(key=lambda row: struct.unpack_from("<Q", row))
    body[:start] = b"KWSD" + struct.pack("<I", len(rows)) + b"".join(rows)
    return bytes(body)


def read(data: bytes) -> dict[str, bytes]:
    """The content by its key, in sixteen hexadecimal digits."""
    reader, found, before = Reader(data), dict[str, bytes](), -1
    must(reader.take(4) == b"KWSD", "not soundings")
    for _ in range(reader.number("I")):
        key, start, stored, size = (reader.number(form) for form in "QIII")
        must(key > before, f"the key {key:016x} is out of order")
        found[f"{key:016x}"], before = _content(span(data, start * 16, stored), size), key
    return found


def _content(stored: bytes, size: int) -> bytes:
    count, reader, out = -(-size // BLOCK), Reader(stored), b""
    sizes = [reader.number("H") for _ in range(count)]
    for index, siz in enumerate(sizes):
        wanted, block = min(BLOCK, size - index * BLOCK), reader.take(siz)
        out += block if siz == wanted else inflate(block, wanted)
    must(reader.at == len(stored), "bytes too many behind the last block")
    return out
