"""The charts of the shallows: no signature, and each chart has entries of the same names.

Little-endian: entries u32; a record of each: name (24 bytes, filled with zeros), start u32, size u32; content behind
them, each at a multiple of 4, filled with zeros. For each isle, in this order: `fairway` (the isle's id),
`channel-buoys` and `sunken-rocks`. Buoys, until the end: east i16, north i16, colour u8 (0 red, 1 green, 2 black), bell
u8 (0 or 1), depth u16. Rocks: east i16, north i16.
"""

from __future__ import annotations

import random
import struct
from collections.abc import Iterator
from pathlib import Path

from kelpwick.isles._bytes import Reader, must, span
from kelpwick.words import ISLANDS

NAME = "shallows/firth.kwz"
RECORDS, COLOURS = ("fairway", "channel-buoys", "sunken-rocks"), ("red", "green", "black")


def write(folder: Path, rng: random.Random) -> None:
    contents = [(name, made) for isle, _ in ISLANDS for name, made in zip(RECORDS, _chart(isle, rng), strict=True)]
    head, body = [struct.pack("<I", len(contents))], b""
    first = 4 + 32 * len(contents)
    for name, content in contents:
        head.append(name.encode().ljust(24, b"\0") + struct.pack("<II", first + len(body), len(content)))
        body += content + bytes(-len(content) % 4)
    (folder / NAME).parent.mkdir(exist_ok=True)
    (folder / NAME).write_bytes(b"".join([*head, body]))


def _chart(isle: str, rng: random.Random) -> Iterator[bytes]:
    yield isle.encode()
    yield b"".join(
        struct.pack("<hhBBH", rng.randint(-90, 90), rng.randint(-90, 90), colour, rng.randint(0, 1), rng.randint(2, 30))
        for colour in (0, 1, 2, 0, 1)[: rng.randint(3, 5)]
    )
    yield b"".join(struct.pack("<hh", rng.randint(-99, 99), rng.randint(-99, 99)) for _ in range(rng.randint(1, 4)))


def read(folder: Path) -> dict[str, bytes]:
    """The content by isle and name: `gannet_stack/channel-buoys`."""
    data = (folder / NAME).read_bytes()
    reader, found, at = Reader(data), dict[str, bytes](), 0
    count = reader.number("I")
    must(count % len(RECORDS) == 0, f"{NAME}: {count} entries are no whole charts")
    at, isle = 4 + 32 * count, ""
    for number in range(count):
        name, start, size = reader.take(24), reader.number("I"), reader.number("I")
        wanted = RECORDS[number % len(RECORDS)]
        must(name == wanted.encode().ljust(24, b"\0"), f"{NAME}: entry {number} is {name!r}, not {wanted}")
        must(start == at, f"{NAME}: entry {number} starts at {start}, not {at}")
        content = span(data, start, size)
        isle = content.decode() if wanted == "fairway" else isle
        found[f"{isle}/{wanted}"], at = content, start + size + -size % 4
    must(at == len(data), f"{NAME}: {len(data) - at} bytes behind the last entry")
    return found


def buoys(content: bytes) -> Iterator[str]:
    """Each buoy in words."""
    must(len(content) % 8 == 0, f"{NAME}: {len(content)} bytes are no whole buoys")
    for east, north, colour, bell, depth in struct.iter_unpack("<hhBBH", content):
        must(colour < len(COLOURS) and bell < 2, f"{NAME}: no buoy is of colour {colour} with bell {bell}")
        yield f"{COLOURS[colour]} at {east}, {north} in {depth} fathoms" + (", with a bell" if bell else "")
