"""The sail loft: meshes, materials, pictures. The game asks by a hash, so no names are stored.

Mark "KWLO", entries u32; the table, sorted by key: key u64 (FNV-1a of the path in small letters, with backslashes and
one in front), start / 16 u32, stored size u32, size u32, CRC-32 of the content u32; deflated where that is shorter.
Content at multiples of 16, zeros between.
"""

from __future__ import annotations

import random
import struct
import zlib
from collections.abc import Iterator, Mapping
from pathlib import Path

from kelpwick import GameError, png
from kelpwick.isles._bytes import Reader, inflate, must, span
from kelpwick.isles.soundings import key_of
from kelpwick.words import BOATS, LAMPS, MATERIALS, SEASONS

NAME, HEAD, RECORD = "loft/loft.kwa", 8, struct.Struct("<QIIII")
FITTINGS = "fittings/fittings.xml"
BUILT = (("skiff", 3), ("skiff", 17), ("punt", 8), ("barge", 42), ("barge", 77))  # boats by kind and number


def key(path: str) -> int:
    """The key by which the game asks for a path."""
    return key_of("\\" + path.lower().replace("/", "\\"))


def write(folder: Path, rng: random.Random) -> None:
    rows, start = [], HEAD
    files = dict(_files(rng))
    body = bytearray(HEAD + RECORD.size * len(files))
    for path, content in files.items():
        stored = min(zlib.compress(content, 6), content, key=len)
        body += bytes(-len(body) % 16)
        rows.append((key(path), len(body) // 16, len(stored), len(content), zlib.crc32(content)))
        body += stored
    table = b"".join(RECORD.pack(*row) for row in sorted(rows))
    body[: start + len(table)] = b"KWLO" + struct.pack("<I", len(rows)) + table
    (folder / NAME).parent.mkdir(exist_ok=True)
    (folder / NAME).write_bytes(bytes(body))


def _files(rng: random.Random) -> Iterator[tuple[str, bytes]]:
    lamps = [lamp[0] for lamp in LAMPS]
    rows = [f'  <lamp id="{lamp}" mesh="meshes\\lamps\\{lamp}.msh"/>' for lamp in lamps]
    yield (
        FITTINGS,
        "\r\n".join(
            [
                "<fittings>",
                *rows,
                '  <guide text="Guides/Chapter_01.txt"/>',
                '  <otherwise material="materials/brass.xml"/>',
                "</fittings>",
                "",
            ]
        ).encode(),
    )
    for number, lamp in enumerate(lamps):
        yield f"meshes/lamps/{lamp}.msh", _mesh(rng, [MATERIALS[number % 8], MATERIALS[(number + 3) % 8]])
    for number, material in enumerate(MATERIALS):
        yield (
            f"materials/{material}.xml",
            f'<material name="{material}" picture="pictures/loft/{material}.png"/>\n'.encode(),
        )
        yield f"pictures/loft/{material}.png", png.chart(rng.randbytes(256))
        yield f"pictures/loft/{material}_worn.png", png.lamp(number * 31, 4 + number)
    for number in range(1, 9):
        yield (
            f"guides/chapter_{number:02}.txt",
            _chapter(number).encode(),
        )
    for boat in BOATS:
        yield f"sails/{boat[0]}/main.sail", b"SAIL" + rng.randbytes(300)
        yield f"sails/{boat[0]}/jib.sail", b"SAIL" + rng.randbytes(200)
    for kind, number in BUILT:
        for part in ("hull", "sail"):
            yield f"boats/{kind}_{number:02}/{part}.msh", _mesh(rng, [MATERIALS[number % 8]])
            yield f"boats/{kind}_{number:02}/{part}.png", png.boat(number * 7, 20 + number % 9)
    for season in SEASONS:  # what nobody will ever name
        yield f"{rng.randbytes(9).hex()}/{season}.{rng.randbytes(2).hex()}", b"LOST" + rng.randbytes(120)


def _chapter(number: int) -> str:
    worn = "See pictures/loft/brass_worn.png for what the salt does.\n" if number == 5 else ""
    return f"Chapter {number}\n\nHow the lamp is lit when the wind is from {number * 40}.\n{worn}"


def _mesh(rng: random.Random, materials: list[str]) -> bytes:
    """A mesh: mark, corners, the names of its materials, the corners themselves."""
    corners = rng.randint(12, 40)
    names = b"".join(struct.pack("<B", len(name)) + name.encode() for name in materials)
    return (
        b"KMSH"
        + struct.pack("<HB", corners, len(materials))
        + names
        + struct.pack(f"<{3 * corners}f", *(rng.uniform(-9, 9) for _ in range(3 * corners)))
    )


def read(folder: Path) -> dict[str, bytes]:
    """The content by its key, in sixteen hexadecimal digits; what the lamps need is there."""
    data = (folder / NAME).read_bytes()
    reader, found, before = Reader(data), dict[str, bytes](), -1
    must(reader.take(4) == b"KWLO", f"{NAME}: not a loft")
    for _ in range(reader.number("I")):
        number, start, stored, size, checksum = (reader.number(form) for form in "QIIII")
        must(number > before, f"{NAME}: the key {number:016x} is out of order")
        raw = span(data, start * 16, stored)
        content = raw if stored == size else inflate(raw, size)
        must(zlib.crc32(content) == checksum, f"{NAME}: {number:016x} is damaged")
        found[f"{number:016x}"], before = content, number
    for lamp in LAMPS:
        for material in materials(asked(found, f"meshes/lamps/{lamp[0]}.msh")):
            asked(found, f"materials/{material}.xml")
            must(
                asked(found, f"pictures/loft/{material}.png").startswith(b"\x89PNG"),
                f"{NAME}: the picture of {material} is none",
            )
    return found


def asked(files: Mapping[str, bytes], path: str) -> bytes:
    """What the game gets when it asks for a path."""
    found = files.get(f"{key(path):016x}")
    if found is None:
        raise GameError(f"{NAME}: there is no {path}")
    return found


def materials(mesh: bytes) -> list[str]:
    """The materials that a mesh names."""
    reader = Reader(mesh)
    must(reader.take(4) == b"KMSH", "not a mesh")
    corners, count = reader.number("H"), reader.number("B")
    names = [reader.text(reader.number("B")) for _ in range(count)]
    must(reader.at + 12 * corners == len(mesh), "a mesh with too few corners, or too many")
    return names
