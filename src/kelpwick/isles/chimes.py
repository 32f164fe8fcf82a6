"""Chimes, one behind the other, big endian: mark "KWRW", length u32; then records at multiples of 8: pitch u16, name
(u8 length), size u24, Adler-32 of the sound; the sound at a multiple of 4; at last "<hush>" and their number u16."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Mapping

from kelpwick.isles._bytes import Reader, must

END = b"<hush>"


def write(files: Mapping[str, bytes]) -> bytes:
    out = bytearray(b"KWRW\0\0\0\0")
    for number, (name, sound) in enumerate(files.items()):
        out += b"~" * (-len(out) % 8) + struct.pack(">HB", 220 + 55 * number, len(name.encode())) + name.encode()
        out += len(sound).to_bytes(3, "big") + struct.pack(">I", zlib.adler32(sound))
        out += b"." * (-len(out) % 4) + sound
    out += b"~" * (-len(out) % 8) + END + struct.pack(">H", len(files))
    out[4:8] = struct.pack(">I", len(out))
    return bytes(out)


def read(data: bytes) -> dict[str, bytes]:
    reader, found = Reader(data, ">"), dict[str, bytes]()
    must(reader.take(4) == b"KWRW" and reader.number("I") == len(data), "the head is wrong")
    while True:
        reader.skip_to(8, ord("~"))
        if data.startswith(END, reader.at):
            break
        must(220 <= reader.number("H") < 2000, "no bell has such a pitch")
        name, size = reader.text(reader.number("B")), int.from_bytes(reader.take(3), "big")
        checksum = reader.number("I")
        reader.skip_to(4, ord("."))
        found[name] = reader.take(size)
        must(zlib.adler32(found[name]) == checksum, f"{name}: its checksum is wrong")
        must(found[name].startswith(b"CHIM"), f"{name} is no chime")
    reader.take(len(END))
    must(reader.number("H") == len(found) and reader.at == len(data), "the number of chimes is wrong")
    return found
