"""PNG pictures of lamps, boats and charts, drawn from numbers (RGB, 8 bits; PNG specification, W3C 2003)."""

from __future__ import annotations

import struct
import zlib
from collections.abc import Callable

Pixel = tuple[int, int, int]


def draw(width: int, height: int, colour: Callable[[int, int], Pixel]) -> bytes:
    """A PNG file of width x height pixels, each from `colour(x, y)`."""
    rows = b"".join(b"\0" + bytes(value & 255 for x in range(width) for value in colour(x, y)) for y in range(height))
    head = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + _chunk(b"IHDR", head) + _chunk(b"IDAT", zlib.compress(rows, 9)) + _chunk(b"IEND", b"")


def _chunk(kind: bytes, body: bytes) -> bytes:
    return struct.pack(">I", len(body)) + kind + body + struct.pack(">I", zlib.crc32(kind + body))


def lamp(hue: int, reach: float) -> bytes:
    """A lamp's beam in the night: brighter and wider with its range in miles."""

    def colour(x: int, y: int) -> Pixel:
        spread = abs(y - 24) / (1 + x * reach / 90)
        light = max(0, int(230 - spread * 40 - x * 2))
        return 18 + light * (120 + hue % 90) // 255, 22 + light * 200 // 255, 40 + light * (80 + hue % 70) // 255

    return draw(64, 48, colour)


def boat(hue: int, length: int) -> bytes:
    """A hull and a mast on the water."""

    def colour(x: int, y: int) -> Pixel:
        hull = 26 <= y < 34 and abs(x - 32) < length // 2 - (y - 26)
        mast = x == 32 and 8 <= y < 26
        if hull or mast:
            return 90 + hue % 120, 60 + hue % 50, 40
        return (60, 90, 130 + (x ^ y) % 16) if y >= 30 else (170, 190, 205)

    return draw(64, 48, colour)


def chart(noise: bytes, size: int = 96) -> bytes:
    """A chart of depths: rings around shoals, with a grain from `noise`."""
    shoals = [(noise[i] * size // 256, noise[i + 1] * size // 256) for i in range(0, 8, 2)]

    def colour(x: int, y: int) -> Pixel:
        depth = min((x - a) ** 2 + (y - b) ** 2 for a, b in shoals)
        ring = 20 if depth // 40 % 2 else 0
        grain = noise[(x * 31 + y * 17) % len(noise)] % 6
        return 150 + ring + grain, 175 + ring + grain, 190 + grain

    return draw(size, size, colour)
