"""The charts of the deeps: a pack cut into pieces."""

from __future__ import annotations

import random
import struct
from itertools import count
from pathlib import Path

from kelpwick import GameError
from kelpwick.pack import Item, packed, unpacked
from kelpwick.words import ISLANDS

NAME, PIECE = "deeps/deeps.kwp", 4096


def write(folder: Path, rng: random.Random) -> None:
    items = [Item("soundings.txt", b"The lead was dropped at slack water.\n", 7)]
    items += [
        Item(f"deeps/{island}.sdg", b"SDG1" + struct.pack("<HH", 40, 40) + rng.randbytes(3200), 7, 0)
        for island, _ in ISLANDS
    ]
    data = packed(items, rng.randbytes(12))
    (folder / NAME).parent.mkdir(exist_ok=True)
    for number, start in enumerate(range(0, len(data), PIECE), 1):
        (folder / f"{NAME}.{number:03}").write_bytes(data[start : start + PIECE])


def read(folder: Path) -> dict[str, bytes]:
    pieces: list[bytes] = []
    for number in count(1):
        path = folder / f"{NAME}.{number:03}"
        if number > 1 and not path.is_file():
            break
        pieces.append(path.read_bytes())
    while pieces and not pieces[-1]:  # left empty by a pack that became shorter
        pieces.pop()
    if any(len(piece) != PIECE for piece in pieces[:-1]):
        raise GameError(f"{NAME}: a piece that is not the last has not {PIECE} bytes")
    return unpacked(b"".join(pieces), NAME)
