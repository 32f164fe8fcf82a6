"""The scenes: objects with ids, each of a type with fields of its own, which refer to each other.

Mark "KWSC", version u16 = 1, count u16, CRC-32 of the objects u32; objects: id u16, type u8 (1 lamp, 2 door, 3 chest, 4
sign, 5 keeper), name (u8 length, UTF-8), hidden u8; then by type: lit u8, range f32, keeper u16 | locked u8, to u16 |
barrels u8, count u8 and so many u16 | text (u8 length) | mood u8, place i16 i16.
"""

from __future__ import annotations

import struct
import zlib
from dataclasses import dataclass, field

from kelpwick.isles._bytes import Reader, must

FILES = ("scenes/lamp_room.kwn", "scenes/quay.kwn")
TYPES, MOODS = ("lamp", "door", "chest", "sign", "keeper"), ("steady", "restless", "cheerful", "tired")
_SCENES: dict[str, tuple[tuple[int, str, str, bool, tuple[object, ...]], ...]] = {
    FILES[0]: (
        (1, "lamp", "Third Fresnel", False, (1, 9.5, 5)),
        (2, "door", "Stair", False, (0, 3)),
        (3, "door", "Store", False, (1, 2)),
        (4, "sign", "Notice", False, ("sign.stair",)),
        (5, "keeper", "Dunna Marl", False, (3, 40, -12)),
        (6, "chest", "Ansa Tolk's chest", True, (4, (101, 106))),
    ),
    FILES[1]: (
        (1, "lamp", "Customs quay", False, (1, 4.0, 2)),
        (2, "keeper", "Ansa Tolk", False, (0, 7, 0)),
        (3, "chest", "Tolkham crate", False, (12, (102,))),
        (4, "door", "Customs house", False, (1, 4)),
    ),
}


@dataclass(frozen=True)
class Thing:
    """An object of a scene."""

    kind: str
    name: str
    hidden: bool
    fields: dict[str, object] = field(default_factory=dict)


def files() -> dict[str, bytes]:
    return {path: _scene(things) for path, things in _SCENES.items()}


def _scene(things: tuple[tuple[int, str, str, bool, tuple[object, ...]], ...]) -> bytes:
    body = bytearray()
    for key, kind, name, hidden, values in things:
        body += struct.pack("<HBB", key, TYPES.index(kind) + 1, len(name.encode())) + name.encode() + bytes([hidden])
        if kind == "chest":
            barrels, held = values
            assert isinstance(held, tuple)
            body += struct.pack(f"<BB{len(held)}H", barrels, len(held), *held)
        elif kind == "sign":
            body += bytes([len(str(values[0]))]) + str(values[0]).encode()
        else:
            body += struct.pack({"lamp": "<BfH", "door": "<BH", "keeper": "<Bhh"}[kind], *values)
    return struct.pack("<4sHHI", b"KWSC", 1, len(things), zlib.crc32(body)) + bytes(body)


def read(data: bytes, path: str) -> dict[int, Thing]:
    """A scene's objects by id; GameError when anything is not as it must be."""
    reader = Reader(data)
    must(reader.take(4) == b"KWSC" and reader.number("H") == 1, f"{path}: not a scene of version 1")
    count, checksum = reader.number("H"), reader.number("I")
    must(zlib.crc32(data[12:]) == checksum, f"{path}: the checksum is wrong")
    found: dict[int, Thing] = {}
    for _ in range(count):
        key, kind = reader.number("H"), reader.number("B")
        must(1 <= kind <= len(TYPES), f"{path}: object {key} is of type {kind}")
        name, hidden = reader.text(reader.number("B")), reader.number("B")
        must(key not in found and hidden < 2, f"{path}: object {key} is there twice, or hidden {hidden}")
        found[key] = Thing(TYPES[kind - 1], name, bool(hidden), _fields(reader, TYPES[kind - 1]))
    must(reader.at == len(data), f"{path}: bytes behind the last object")
    return found


def _fields(reader: Reader, kind: str) -> dict[str, object]:
    if kind == "lamp":
        lit, (reach,) = reader.number("B"), struct.unpack("<f", reader.take(4))
        return {"lit": lit, "range": reach, "keeper": reader.number("H")}
    if kind == "door":
        return {"locked": reader.number("B"), "to": reader.number("H")}
    if kind == "chest":
        barrels, count = reader.number("B"), reader.number("B")
        return {"barrels": barrels, "holds": [reader.number("H") for _ in range(count)]}
    if kind == "sign":
        return {"says": reader.text(reader.number("B"))}
    return {"mood": reader.number("B"), "x": reader.number("h"), "y": reader.number("h")}
