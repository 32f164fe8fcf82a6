"""What boats are made of, as objects: mark "KWOB", types u16, objects u16, start of the types u32; content at multiples
of 4, of sails at multiples of 16; types: hash u32 (CRC-32 of the name), name (u8 length); objects: id u32, type u16,
name (u8 length), start u32, size u32. A hull is length f32, draught f32, planks u16; a sail area f32, colour u8, reefs
u8 and as many heights f16."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Mapping

from kelpwick.isles._bytes import Reader, must, span

TYPES = ("hull", "sail")
COLOURS = ("white", "tan", "red")


def hull(length: float, draught: float, planks: int) -> bytes:
    """A hull's record; lengths in metres."""
    return struct.pack("<ffH", length, draught, planks)


def sail(area: float, colour: int, heights: list[float]) -> bytes:
    """A sail's record; square metres, and the heights of its reefs in metres."""
    return struct.pack(f"<fBB{len(heights)}e", area, colour, len(heights), *heights)


def write(files: Mapping[str, bytes]) -> bytes:
    out, objects = bytearray(12), b""
    for number, (path, content) in enumerate(files.items()):
        name, _, kind = path.rpartition(".")
        out += bytes(-len(out) % (16 if kind == "sail" else 4))
        objects += struct.pack("<IHB", 5000 + 7 * number, TYPES.index(kind), len(name)) + name.encode()
        objects += struct.pack("<II", len(out), len(content))
        out += content
    start = len(out)
    types = b"".join(struct.pack("<IB", zlib.crc32(text.encode()), len(text)) + text.encode() for text in TYPES)
    out[:12] = b"KWOB" + struct.pack("<HHI", len(TYPES), len(files), start)
    return bytes(out) + types + objects


def read(data: bytes) -> dict[str, bytes]:
    head, found, ids = Reader(data), dict[str, bytes](), set[int]()
    must(head.take(4) == b"KWOB", "not a package")
    types, objects, head.at = head.number("H"), head.number("H"), head.number("I")
    names = []
    for _ in range(types):
        checksum, name = head.number("I"), head.text(head.number("B"))
        must(zlib.crc32(name.encode()) == checksum, f"the type {name} has another hash")
        names.append(name)
    for _ in range(objects):
        ident, kind, name = head.number("I"), head.number("H"), head.text(head.number("B"))
        start, size = head.number("I"), head.number("I")
        must(kind < types and ident not in ids, f"{name}: type {kind}, id {ident}")
        must(start % (16 if names[kind] == "sail" else 4) == 0, f"{name} lies at {start}")
        ids.add(ident)
        found[f"{name}.{names[kind]}"] = span(data, start, size)
    must(head.at == len(data), "bytes too many behind the objects")
    return found


def describe(path: str, content: bytes) -> str:
    """An object in words; GameError when its record is not whole."""
    reader = Reader(content)
    if path.endswith(".hull"):
        length, draught = struct.unpack("<ff", reader.take(8))
        text = f"{length:.1f} m long, {draught:.1f} m deep, {reader.number('H')} planks"
    else:
        area, colour = struct.unpack("<f", reader.take(4))[0], reader.number("B")
        reefs = [struct.unpack("<e", reader.take(2))[0] for _ in range(reader.number("B"))]
        must(colour < len(COLOURS), f"{path}: no colour {colour}")
        text = f"{area:.0f} m2, {COLOURS[colour]}, {len(reefs)} reefs"
    must(reader.at == len(content), f"{path}: bytes too many")
    return text
