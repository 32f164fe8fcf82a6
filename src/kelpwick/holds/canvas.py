"""The sailmaker's pictures, as the game draws them: blocks, tiles, a palette, normals; decoded by code of its own, but
for BC7.

canvas/*.kwi    KWI1, width, height, levels, levels in this file, form, dye, CRC-32 of the pixels, the pixels: all
                levels down to one
                pixel, the largest first
canvas/*.kwi.1  the largest level, where it is not in the file itself; .2 the one after it
forms           1 colours and gloss in blocks (BC3), 2 tiles of 8 x 4 pixels of red, green, blue and alpha, 3 numbers of
                colours,
                4 the first two parts of normals in blocks (BC5), 5 colours in blocks (BC7)
canvas/dyes.kwc two palettes of 256 colours for the pictures of form 3; `dye` is the number of theirs
canvas/fog.dds  colours in blocks (BC1), one level

The game refuses sizes that are no powers of two, missing levels, a wrong checksum, a sail that is not 64 x 32, normals
that are too long.
"""

from __future__ import annotations

import hashlib
import random
import re
import struct
import zlib
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any

from kelpwick import GameError
from kelpwick.words import BOATS

Pixel = tuple[int, int, int, int]
Rows = list[list[Pixel]]
HEAD = struct.Struct("<4sHHBBBBI")
SAIL, GLOW, CHART, HULL, PANE = 1, 2, 3, 4, 5
APART = 2  # levels of a sail in files of their own
DYES = "dyes.kwc"
SIZE = (64, 32)
SHADES = " .:-=+*#%@"
SIXTEENTHS = (0, 4, 9, 13, 17, 21, 26, 30, 34, 38, 43, 47, 51, 55, 60, 64)


def write(folder: Path, rng: random.Random) -> None:
    folder = folder / "canvas"
    folder.mkdir(exist_ok=True)
    for number, boat in enumerate(BOATS[:2]):
        put(folder, f"{boat[0]}_sail", SAIL, SIZE, _sail(number), apart=APART)
        put(folder, f"{boat[0]}_hull_n", HULL, (32, 32), _hull(number))
    put(folder, "lens_glow", GLOW, (32, 16), _glow)
    colours = [(rng.randrange(256), rng.randrange(256), rng.randrange(256), 255) for _ in range(24)]
    dyes = [[*colours[:used], *[(0, 0, 0, 255)] * (256 - used)] for used in (8, 24)]
    (folder / DYES).write_bytes(bytes(part for dye in dyes for colour in dye for part in colour))
    put(folder, "harbour_chart", CHART, (32, 32), lambda x, y: ((x * x + y * y) // 40 % 24, 0, 0, 255), dye=1)
    put(folder, "lamp_room_pane", PANE, (16, 16), lambda x, y: (80 + 8 * x, 150 + 4 * y, 160, 120 + 8 * (x % 4)))
    rows = [[(120 + x, 130 + x, 140 + y, 255) for x in range(32)] for y in range(16)]
    head = struct.pack("<4s7I44x", b"DDS ", 124, 0x81007, 16, 32, 256, 0, 1) + struct.pack(
        "<2I4s5I5I", 32, 4, b"DXT1", 0, 0, 0, 0, 0, 0x1000, 0, 0, 0, 0
    )
    (folder / "fog.dds").write_bytes(head + b"".join(_colours(block) for block in _blocks(rows)))


def put(
    folder: Path,
    name: str,
    form: int,
    size: tuple[int, int],
    colour: Callable[[int, int], Pixel],
    dye: int = 0,
    apart: int = 0,
) -> None:
    """Write a picture of that form, with all its levels; the `apart` largest of them in files of their own."""
    rows: Rows = [[colour(x, y) for x in range(size[0])] for y in range(size[1])]
    levels = [ENCODE[form](rows)]
    while len(rows) > 1 or len(rows[0]) > 1:
        rows = _half(rows, form == CHART)
        levels.append(ENCODE[form](rows))
    for number, level in enumerate(levels[:apart], 1):
        (folder / f"{name}.kwi.{number}").write_bytes(level)
    pixels = b"".join(levels[apart:])
    head = HEAD.pack(b"KWI1", *size, len(levels), len(levels) - apart, form, dye, zlib.crc32(pixels))
    (folder / f"{name}.kwi").write_bytes(head + pixels)


def _sail(number: int) -> Callable[[int, int], Pixel]:
    def colour(x: int, y: int) -> Pixel:
        seam = 30 if x % 16 == 0 else 0
        return 200 - seam - y, 190 - seam - number * 60, 150 - seam + number * 40, 40 + x * 3

    return colour


def _hull(number: int) -> Callable[[int, int], Pixel]:
    return lambda x, y: (128 + (x * 7 + number * 11) % 60 - 30, 128 + (y * 5) % 50 - 25, 0, 255)


def _glow(x: int, y: int) -> Pixel:
    near = max(0, 255 - (abs(x - 16) * 12 + abs(y - 8) * 18))
    return 255, 240, near, near


def _half(rows: Rows, taken: bool) -> Rows:
    """The next level: each pixel of four, or of indexes the first of them."""
    high, wide = max(1, len(rows) // 2), max(1, len(rows[0]) // 2)
    down, across = len(rows) // high, len(rows[0]) // wide
    made = []
    for y in range(high):
        line = []
        for x in range(wide):
            group = [rows[y * down + j][x * across + i] for j in range(down) for i in range(across)]
            line.append(group[0] if taken else tuple(sum(one[c] for one in group) // len(group) for c in range(4)))
        made.append(line)
    return made  # type: ignore[return-value]


# encoding, as simple as can be


def _blocks(rows: Rows) -> Iterator[list[Pixel]]:
    for top in range(0, len(rows), 4):
        for left in range(0, len(rows[0]), 4):
            yield [
                rows[min(top + y, len(rows) - 1)][min(left + x, len(rows[0]) - 1)] for y in range(4) for x in range(4)
            ]


def _colours(block: list[Pixel]) -> bytes:
    """The eight bytes of BC1 for sixteen opaque pixels: the ends of their range, and the nearest of four steps for
    each."""
    low, high = (tuple(end(pixel[c] for pixel in block) for c in range(3)) for end in (min, max))
    first, second = (one[0] >> 3 << 11 | one[1] >> 2 << 5 | one[2] >> 3 for one in (high, low))
    if first == second:
        return struct.pack("<HHI", first, second, 0)
    first, second = max(first, second), min(first, second)
    steps, bits = _steps(first, second, True), 0
    for place, pixel in enumerate(block):
        near = min(range(4), key=lambda at: sum((steps[at][c] - pixel[c]) ** 2 for c in range(3)))
        bits |= near << 2 * place
    return struct.pack("<HHI", first, second, bits)


def _values(values: list[int]) -> bytes:
    """The eight bytes of one channel (BC4): its ends, and the nearest of eight steps for each."""
    high, low, bits = max(values), min(values), 0
    steps = _channel_steps(high, low)
    for place, value in enumerate(values):
        bits |= min(range(8), key=lambda at: abs(steps[at] - value)) << 3 * place
    return bytes([high, low]) + bits.to_bytes(6, "little")


def _pane(block: list[Pixel]) -> bytes:
    """Sixteen bytes of BC7 in its mode 6: two ends of seven bits and one shared bit each, and sixteen steps between
    them."""
    low, high = (tuple(end(pixel[c] for pixel in block) for c in range(4)) for end in (min, max))
    span = [high[c] - low[c] for c in range(4)]
    at = [
        max(0, min(15, round(15 * sum((p[c] - low[c]) * span[c] for c in range(4)) / (sum(s * s for s in span) or 1))))
        for p in block
    ]
    if at[0] > 7:  # the first has one bit less
        low, high, at = high, low, [15 - one for one in at]
    bits, place = 1 << 6, 7
    for channel in range(4):
        for end in (low, high):
            bits, place = bits | (end[channel] >> 1) << place, place + 7
    bits, place = bits | 1 << place, place + 2  # the shared bits: 1 and 0
    for number, one in enumerate(at):
        bits, place = bits | one << place, place + (4 if number else 3)
    return bits.to_bytes(16, "little")


def _tiles(rows: Rows) -> bytes:
    wide, high = len(rows[0]), len(rows)
    out = bytearray()
    for top in range(0, high, 4):
        for left in range(0, wide, 8):
            for y in range(4):
                for x in range(8):
                    inside = top + y < high and left + x < wide
                    out += bytes(rows[top + y][left + x]) if inside else bytes(4)
    return bytes(out)


ENCODE: dict[int, Callable[[Rows], bytes]] = {
    SAIL: lambda rows: b"".join(_values([pixel[3] for pixel in block]) + _colours(block) for block in _blocks(rows)),
    GLOW: _tiles,
    CHART: lambda rows: bytes(pixel[0] for row in rows for pixel in row),
    HULL: lambda rows: b"".join(
        _values([p[0] for p in block]) + _values([p[1] for p in block]) for block in _blocks(rows)
    ),
    PANE: lambda rows: b"".join(_pane(block) for block in _blocks(rows)),
}


# reading, as strictly as a game


def _steps(first: int, second: int, four: bool) -> list[tuple[int, int, int]]:
    ends = [
        ((word >> 11) * 255 // 31, (word >> 5 & 63) * 255 // 63, (word & 31) * 255 // 31) for word in (first, second)
    ]
    shares = ((2, 1), (1, 2)) if four else ((1, 1),)
    steps = [*ends]
    for a, b in shares:
        red, green, blue = ((ends[0][c] * a + ends[1][c] * b) // (a + b) for c in range(3))
        steps.append((red, green, blue))
    return steps if four else [*steps, (0, 0, 0)]


def _channel_steps(first: int, second: int) -> list[int]:
    if first > second:
        return [first, second, *((first * (7 - at) + second * at) // 7 for at in range(1, 7))]
    return [first, second, *((first * (5 - at) + second * at) // 5 for at in range(1, 5)), 0, 255]


def _bc1(data: bytes, always_four: bool) -> list[tuple[int, int, int]]:
    first, second, bits = struct.unpack("<HHI", data)
    steps = _steps(first, second, always_four or first > second)
    return [steps[bits >> 2 * at & 3] for at in range(16)]


def _bc4(data: bytes) -> list[int]:
    steps, bits = _channel_steps(data[0], data[1]), int.from_bytes(data[2:8], "little")
    return [steps[bits >> 3 * at & 7] for at in range(16)]


def _unblocked(data: bytes, wide: int, high: int, size: int, decode: Callable[[bytes], list[Pixel]]) -> Rows:
    rows: Rows = [[(0, 0, 0, 0)] * wide for _ in range(high)]
    across = -(-wide // 4)
    for at in range(0, len(data), size):
        top, left = at // size // across * 4, at // size % across * 4
        for place, pixel in enumerate(decode(data[at : at + size])):
            if top + place // 4 < high and left + place % 4 < wide:
                rows[top + place // 4][left + place % 4] = pixel
    return rows


def _sail_block(data: bytes) -> list[Pixel]:
    return [(*colour, gloss) for colour, gloss in zip(_bc1(data[8:], True), _bc4(data[:8]), strict=True)]


def _hull_block(data: bytes) -> list[Pixel]:
    return [(x, y, 0, 255) for x, y in zip(_bc4(data[:8]), _bc4(data[8:]), strict=True)]


def _untiled(data: bytes, wide: int, high: int) -> Rows:
    across = -(-wide // 8)

    def pixel(x: int, y: int) -> Pixel:
        at = ((y // 4 * across + x // 8) * 32 + y % 4 * 8 + x % 8) * 4
        red, green, blue, alpha = data[at : at + 4]
        return red, green, blue, alpha

    return [[pixel(x, y) for x in range(wide)] for y in range(high)]


def level_bytes(form: int, wide: int, high: int) -> int:
    """The bytes of a level."""
    if form == GLOW:
        return -(-wide // 8) * -(-high // 4) * 128
    return wide * high if form == CHART else -(-wide // 4) * -(-high // 4) * 16


def read(folder: Path) -> Mapping[str, bytes]:
    """All files, each checked; GameError for the first that the game would not draw."""
    found = {}
    for path in sorted((folder / "canvas").glob("*")):
        found[path.name] = path.read_bytes()
    names = [f"{boat[0]}_sail.kwi" for boat in BOATS[:2]]
    for name in [*names, "lens_glow.kwi", "harbour_chart.kwi", "lamp_room_pane.kwi", "fog.dds"]:
        if name not in found:
            raise GameError(f"canvas/{name} is missing")
    for name in found:
        if name.endswith((".kwi", ".dds")):
            drawn(name, found)
        elif name != DYES and not (re.fullmatch(r".*\.kwi\.[1-9]", name) and name[:-2] in found):
            raise GameError(f"canvas/{name} is no picture of the game's")
    return found


def drawn(name: str, files: Mapping[str, bytes]) -> Rows:
    """The pixels of the largest level, all levels having been decoded; `files` has those of the folder."""
    data = files[name]
    if name.endswith(".dds"):
        return _fog(name, data)
    if len(data) < HEAD.size or not name.endswith(".kwi"):
        raise GameError(f"canvas/{name} is no picture of the game's")
    mark, wide, high, levels, here, form, dye, total = HEAD.unpack_from(data)
    if mark != b"KWI1" or form not in ENCODE:
        raise GameError(f"canvas/{name} is no picture of the game's")
    if not wide or not high or wide & wide - 1 or high & high - 1 or max(wide, high) > 1024:
        raise GameError(f"canvas/{name} has {wide} x {high} pixels, no powers of two")
    if form == SAIL and (wide, high) != SIZE:
        raise GameError(f"canvas/{name} has {wide} x {high} pixels, a sail has {SIZE[0]} x {SIZE[1]}")
    if levels != max(wide, high).bit_length():
        raise GameError(f"canvas/{name} has {levels} levels, expected {max(wide, high).bit_length()}")
    if here != levels - (APART if form == SAIL else 0) or f"{name}.{levels - here + 1}" in files:
        raise GameError(f"canvas/{name} has {levels - here} levels in files of their own")
    if zlib.crc32(data[HEAD.size :]) != total:
        raise GameError(f"canvas/{name} has a wrong checksum")
    palette = _dye(name, files.get(DYES, b""), dye) if form == CHART else []
    first: Rows = []
    at = HEAD.size
    for level in range(levels):
        size = max(1, wide >> level), max(1, high >> level)
        length = level_bytes(form, *size)
        if level < levels - here:
            own = files.get(f"{name}.{level + 1}", b"")
            if len(own) != length:
                raise GameError(f"canvas/{name}.{level + 1} has {len(own)} bytes, level {level} has {length}")
        elif at + length > len(data):
            raise GameError(f"canvas/{name} ends within level {level}")
        else:
            own, at = data[at : at + length], at + length
        rows = _decoded(name, form, own, *size, palette)
        first = first or rows
    if at != len(data):
        raise GameError(f"canvas/{name} has {len(data) - at} bytes too many")
    return first


def _dye(name: str, dyes: bytes, number: int) -> list[Pixel]:
    """The colours of a palette; GameError when there is none of that number."""
    own = dyes[1024 * number : 1024 * number + 1024]
    if len(own) != 1024 or len(dyes) % 1024:
        raise GameError(f"canvas/{name} has dye {number}, canvas/{DYES} has {len(dyes)} bytes")
    return [(own[at], own[at + 1], own[at + 2], own[at + 3]) for at in range(0, 1024, 4)]


def _decoded(name: str, form: int, data: bytes, wide: int, high: int, palette: list[Pixel]) -> Rows:
    if form == GLOW:
        return _untiled(data, wide, high)
    if form == CHART:
        if max(data) >= len(palette):
            raise GameError(f"canvas/{name} uses colour {max(data)}, it has {len(palette)}")
        return [[palette[data[y * wide + x]] for x in range(wide)] for y in range(high)]
    if form == PANE:
        return _panes(data, wide, high)
    rows = _unblocked(data, wide, high, 16, _sail_block if form == SAIL else _hull_block)
    if form == HULL:
        longest = max((p[0] / 127.5 - 1) ** 2 + (p[1] / 127.5 - 1) ** 2 for row in rows for p in row)
        if longest > 1.02:
            raise GameError(f"canvas/{name} has normals that are longer than one")
    return rows


def _panes(data: bytes, wide: int, high: int) -> Rows:
    """BC7 has eight modes: the sixth is what is written here, the others are left to a package."""
    if all(data[at] & 127 == 64 for at in range(0, len(data), 16)):
        return _unblocked(data, wide, high, 16, _pane_block)
    import imagecodecs

    wider, higher = max(4, wide), max(4, high)
    pixels: Any = imagecodecs.bcn_decode(data, 7, shape=(higher, wider, 4))
    return [[tuple(pixel) for pixel in row[:wide]] for row in pixels[:high].tolist()]


def _pane_block(data: bytes) -> list[Pixel]:
    bits = int.from_bytes(data, "little")
    ends = [[(bits >> 7 + 14 * c + 7 * end & 127) << 1 | bits >> 63 + end & 1 for c in range(4)] for end in (0, 1)]
    pixels: list[Pixel] = []
    for number in range(16):
        step = SIXTEENTHS[bits >> 65 & 7 if not number else bits >> 64 + 4 * number & 15]
        red, green, blue, alpha = ((a * (64 - step) + b * step + 32) >> 6 for a, b in zip(*ends, strict=True))
        pixels.append((red, green, blue, alpha))
    return pixels


def _fog(name: str, data: bytes) -> Rows:
    if data[:4] != b"DDS " or data[84:88] != b"DXT1" or len(data) < 128:
        raise GameError(f"canvas/{name} is no DDS file in blocks of BC1")
    high, wide = struct.unpack_from("<II", data, 12)
    if (wide, high) != (32, 16) or len(data) != 128 + wide * high // 2:
        raise GameError(f"canvas/{name} has {wide} x {high} pixels in {len(data)} bytes, expected 32 x 16")
    return _unblocked(data[128:], wide, high, 8, lambda block: [(*colour, 255) for colour in _bc1(block, False)])


def screen(files: Mapping[str, bytes]) -> Iterator[str]:
    """The pictures as the player sees them, coarsely, with a digest of their pixels."""
    for name in sorted(name for name in files if name.endswith((".kwi", ".dds"))):
        rows = drawn(name, files)
        digest = hashlib.sha256(bytes(part for row in rows for pixel in row for part in pixel)).hexdigest()[:12]
        yield f"  {name:<24}{len(rows[0])} x {len(rows)}  {digest}"
        if name.endswith("_sail.kwi"):
            yield from (f"    |{line}|" for line in coarse(rows))


def coarse(rows: Rows) -> Iterator[str]:
    """Sixteen characters a line for a picture: the lighter, the denser."""
    step = max(1, len(rows[0]) // 16)
    for top in range(0, len(rows), 2 * step):
        line = ""
        for left in range(0, len(rows[0]), step):
            group = [pixel for row in rows[top : top + 2 * step] for pixel in row[left : left + step]]
            light = sum(sum(pixel[:3]) for pixel in group) / (3 * len(group))
            line += SHADES[int(light * len(SHADES) / 256)]
        yield line
