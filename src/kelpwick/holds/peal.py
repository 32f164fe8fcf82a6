"""The peal of bells: an index, and volumes in which the bells lie.

index     mark "PEAL", records u16, volumes u16; a record a bell, sorted by name: name (16 bytes, filled with zeros),
          volume u8, 3 zeros, start in the volume / 16 u32, size u32, CRC-32 u32; CRC-32 of all records
volume    bells at multiples of 16, zeros between
"""

from __future__ import annotations

import random
import struct
import zlib
from pathlib import Path

from kelpwick.isles._bytes import must, span

NAME, RECORD, ALIGN, HEAD = "peal/peal.kpi", struct.Struct("<16sB3xIII"), 16, 8
VOLUMES = 3


def _volume(number: int) -> str:
    return f"peal/peal_{number:02}.kpd"


def write(folder: Path, rng: random.Random) -> None:
    (folder / NAME).parent.mkdir(exist_ok=True)
    volumes, records = [bytearray() for _ in range(VOLUMES)], []
    for number in range(1, 13):
        name, bell = f"bell-{number:02}.ring".encode(), b"RING" + rng.randbytes(300 + 37 * number)
        volume = number % VOLUMES
        data = volumes[volume]
        data += bytes(-len(data) % ALIGN)
        records.append(RECORD.pack(name, volume, len(data) // ALIGN, len(bell), zlib.crc32(bell)))
        data += bell
    index = b"".join(sorted(records))
    head = b"PEAL" + struct.pack("<HH", len(records), VOLUMES)
    (folder / NAME).write_bytes(head + index + struct.pack("<I", zlib.crc32(index)))
    for number, data in enumerate(volumes):
        (folder / _volume(number)).write_bytes(data)


def read(folder: Path) -> dict[str, bytes]:
    data = (folder / NAME).read_bytes()
    must(data[:4] == b"PEAL" and len(data) >= HEAD + 4, f"{NAME}: not a peal")
    count, volumes = struct.unpack_from("<HH", data, 4)
    index = span(data, HEAD, count * RECORD.size)
    must(
        len(data) == HEAD + len(index) + 4 and struct.unpack("<I", data[-4:])[0] == zlib.crc32(index),
        f"{NAME}: its checksum is wrong",
    )
    contents = [(folder / _volume(number)).read_bytes() for number in range(volumes)]
    found: dict[str, bytes] = {}
    last = b""
    for name, volume, start, size, checksum in RECORD.iter_unpack(index):
        must(
            name > last and volume < volumes,
            f"{NAME}: {name!r} does not come after {last!r}, or its volume is not there",
        )
        bell = span(contents[volume], start * ALIGN, size)
        must(
            zlib.crc32(bell) == checksum and bell[:4] == b"RING", f"{_volume(volume)}: {name!r} is damaged, or no bell"
        )
        last, found[name.rstrip(b"\0").decode()] = name, bell
    return found
