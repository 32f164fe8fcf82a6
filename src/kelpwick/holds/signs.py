"""The signwriter's letters: a font of glyphs on one page, with how far each carries the brush on.

signs/pennant.kwf   KWF1, number of glyphs; of each the number of its character, where it lies on the page (x, y, width,
                    height), and
                    how far the next one is; sorted by character
signs/pennant.kwi   the page

The game refuses glyphs outside of the page, a wrong order, a letter of `KELPWICK LIGHT` that is missing, and a glyph
without a mark.
"""

from __future__ import annotations

import random
import struct
from collections.abc import Iterator, Mapping
from pathlib import Path

from kelpwick import GameError
from kelpwick.holds.canvas import GLOW, Rows, drawn, put

HEAD, GLYPH = struct.Struct("<4sH"), struct.Struct("<HHHBBB")
PAGE, CELL = (64, 32), (5, 7)
WORDS = "KELPWICK LIGHT"
STROKES = {  # seven rows of five bits each
    "C": "0e11101010110e",
    "E": "1f10101e10101f",
    "G": "0e1110171f110e",
    "H": "1111111f111111",
    "I": "0e04040404040e",
    "K": "11121418141211",
    "L": "1010101010101f",
    "P": "1e11111e101010",
    "T": "1f040404040404",
    "W": "11111115151b11",
}


def write(folder: Path, rng: random.Random) -> None:
    (folder / "signs").mkdir(exist_ok=True)
    page: Rows = [[(0, 0, 0, 0)] * PAGE[0] for _ in range(PAGE[1])]
    records = b""
    for number, letter in enumerate(sorted(STROKES)):
        left, top = 1 + number % 8 * 7, 1 + number // 8 * 9
        for y, row in enumerate(bytes.fromhex(STROKES[letter])):
            for x in range(CELL[0]):
                if row >> (4 - x) & 1:
                    page[top + y][left + x] = (240, 236, 220, 255)
        records += GLYPH.pack(ord(letter), left, top, *CELL, CELL[0] + 1)
    put(folder / "signs", "pennant", GLOW, PAGE, lambda x, y: page[y][x])
    (folder / "signs" / "pennant.kwf").write_bytes(HEAD.pack(b"KWF1", len(STROKES)) + records)


def read(folder: Path) -> Mapping[str, bytes]:
    """All files, each checked; GameError for the first that the game would not draw."""
    found = {path.name: path.read_bytes() for path in sorted((folder / "signs").glob("*"))}
    for name in ("pennant.kwf", "pennant.kwi"):
        if name not in found:
            raise GameError(f"signs/{name} is missing")
    written(found)
    return found


def _glyphs(data: bytes, size: tuple[int, int]) -> dict[str, tuple[int, int, int, int, int]]:
    if len(data) < HEAD.size or data[:4] != b"KWF1":
        raise GameError("signs/pennant.kwf is no font of the game's")
    count = HEAD.unpack_from(data)[1]
    if len(data) != HEAD.size + count * GLYPH.size:
        raise GameError(f"signs/pennant.kwf has {len(data)} bytes for {count} glyphs")
    found: dict[str, tuple[int, int, int, int, int]] = {}
    for at in range(HEAD.size, len(data), GLYPH.size):
        code, x, y, wide, high, step = GLYPH.unpack_from(data, at)
        if found and code <= ord(list(found)[-1]):
            raise GameError(f"signs/pennant.kwf: the glyph of {chr(code)} is not in order")
        if not wide or not high or x + wide > size[0] or y + high > size[1]:
            raise GameError(f"signs/pennant.kwf: the glyph of {chr(code)} is outside of its page")
        found[chr(code)] = (x, y, wide, high, step)
    return found


def written(files: Mapping[str, bytes]) -> list[str]:
    """The name of the game as the signwriter paints it: a line for each row of pixels."""
    page = drawn("pennant.kwi", files)
    glyphs = _glyphs(files["pennant.kwf"], (len(page[0]), len(page)))
    lines = [""] * max(high for _, _, _, high, _ in glyphs.values())
    for letter in WORDS:
        if letter == " ":
            lines = [line + "   " for line in lines]
            continue
        if letter not in glyphs:
            raise GameError(f"signs/pennant.kwf has no glyph of {letter}")
        x, y, wide, high, step = glyphs[letter]
        rows = [[page[y + down][x + across][3] > 127 for across in range(wide)] for down in range(high)]
        if not any(map(any, rows)):
            raise GameError(f"signs/pennant.kwi: the glyph of {letter} has no mark")
        for down, line in enumerate(lines):
            row = rows[down] if down < high else []
            lines[down] = line + "".join("#" if dot else " " for dot in row).ljust(step)[: max(step, wide)]
    return lines


def screen(files: Mapping[str, bytes]) -> Iterator[str]:
    """The sign over the door."""
    yield from (f"    [{line.rstrip()}]" for line in written(files))
