"""The executable: what its resources and its tail hold.

Its icon is a group of two images, of 32 and of 16 pixels, of 32 bits each, the lowest row first, with a mask behind
them.
"""

from __future__ import annotations

import random
import struct
from pathlib import Path

from kelpwick import GameError, executable
from kelpwick.holds._zips import unzipped, zipped
from kelpwick.words import SEASONS

NAME = "kelpwick.exe"
NOTICE, GROUP = (10, 1), (14, 1)
SIDES = (32, 16)  # of the images of the icon
MANIFEST = b'<?xml version="1.0"?>\n<assembly xmlns="urn:schemas-microsoft-com:asm.v1" manifestVersion="1.0"/>\n'


def write(folder: Path, rng: random.Random) -> None:
    files = {f"weather/{season}.csv": _weather(rng).encode() for season in SEASONS}
    notice = b"Kelpwick Light, for keepers of lights and nobody else.\r\n"
    icons = {(3, number): _image(side) for number, side in enumerate(SIDES, 1)}
    group = struct.pack("<HHH", 0, 1, len(SIDES))
    for number, side in enumerate(SIDES, 1):
        group += struct.pack("<BBBBHHIH", side, side, 0, 0, 1, 32, len(icons[3, number]), number)
    resources = {NOTICE: notice, (24, 1): MANIFEST, GROUP: group, **icons}
    (folder / NAME).write_bytes(executable.make(zipped(files), resources))


def _image(side: int) -> bytes:
    """A lamp with a yellow light."""
    rows = b""
    for y in range(side - 1, -1, -1):
        for x in range(side):
            far = max(abs(2 * x - side), abs(2 * y - side)) * 16 // side
            rows += bytes((40, 200 if far < 8 else 60, 240 if far < 8 else 70, 255 if far < 14 else 0))
    return (
        struct.pack("<IiiHHIIiiII", 40, side, 2 * side, 1, 32, 0, 0, 0, 0, 0, 0)
        + rows
        + bytes(side * -(-side // 32) * 4)
    )


def _weather(rng: random.Random) -> str:
    return "\n".join(
        ["night;wind;fog", *(f"{night};{rng.randint(0, 11)};{rng.randint(0, 1)}" for night in range(1, 41)), ""]
    )


def read(folder: Path) -> dict[str, bytes]:
    tail, resources = executable.load((folder / NAME).read_bytes())
    return {"notice": resources.get(NOTICE, b""), "icon": _icon(resources), **unzipped(tail, NAME)}


def _icon(resources: executable.Table) -> bytes:
    """The pixels of the icon's images; GameError when the desktop would show none."""
    group = resources.get(GROUP, b"")
    if group[:6] != struct.pack("<HHH", 0, 1, len(SIDES)) or len(group) != 6 + 14 * len(SIDES):
        raise GameError(f"{NAME} has no icon of {len(SIDES)} images")
    pixels, sides = b"", []
    for at in range(6, len(group), 14):
        wide, high, bits, size, number = struct.unpack_from("<BBxxxxHIH", group, at)
        image = resources.get((3, number), b"")
        if len(image) != size or bits != 32 or image[:16] != struct.pack("<IiiHH", 40, wide, 2 * high, 1, 32):
            raise GameError(f"{NAME}: image {number} of the icon is of another size than its group has")
        sides.append(wide)
        pixels += image[40 : 40 + 4 * wide * high]
    if sorted(sides) != sorted(SIDES):
        raise GameError(f"{NAME}: the icon has images of {sides} pixels")
    return pixels
