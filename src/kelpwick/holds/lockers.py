"""The lockers, addressed by number: 64 to a keeper, one for each thing that is kept there.

Mark "KWLK", lockers u16; records in the order of their numbers: number u32, start u32, size u16; content behind them.
"""

from __future__ import annotations

import random
import struct
from pathlib import Path

from kelpwick.isles._bytes import Reader, must, span
from kelpwick.words import GOODS, KEEPERS

NAME, UNIT, FIRST = "lockers/lockers.kwn", 64, 150


def write(folder: Path, rng: random.Random) -> None:
    lockers = {
        (FIRST + keeper) * UNIT + place: f"{good}: {rng.randint(1, 30)}\nsealed by {KEEPERS[keeper][1]}\n".encode()
        for keeper in range(len(KEEPERS))
        for place, good in zip((1, 5, 15, 40), rng.sample(GOODS, 4), strict=True)
    }
    head, at = [b"KWLK" + struct.pack("<H", len(lockers))], 6 + 10 * len(lockers)
    for number, content in sorted(lockers.items()):
        head.append(struct.pack("<IIH", number, at, len(content)))
        at += len(content)
    (folder / NAME).parent.mkdir(exist_ok=True)
    (folder / NAME).write_bytes(b"".join([*head, *(content for _, content in sorted(lockers.items()))]))


def read(folder: Path) -> dict[str, bytes]:
    """The content by its number."""
    data = (folder / NAME).read_bytes()
    reader, found, before = Reader(data), dict[str, bytes](), -1
    must(reader.take(4) == b"KWLK", f"{NAME}: no lockers")
    for _ in range(reader.number("H")):
        number, start, size = (reader.number(form) for form in "IIH")
        must(
            number > before and FIRST <= number // UNIT < FIRST + len(KEEPERS),
            f"{NAME}: locker {number} is out of order, or nobody's",
        )
        found[str(number)], before = span(data, start, size), number
    return found
