"""What names are measured on, and how many a core hashes: `python -m benchmarks.names`. Millions of names a second."""

from __future__ import annotations

import functools
import os
import random
import struct
import zlib
from collections.abc import Callable
from pathlib import Path

import numpy as np
import xxhash

from benchmarks.timing import fastest
from kelpwick.holds import loft
from volvex.codec.bulk_hash import BulkHash, SuffixTrie, Targets

NAMES, ENTRIES = 1_000_000, 100_000
LAYOUT = """layout "a hundred thousand keys" kind archive
known by "KEYS" at 0
hashes by crc32
block head at 0
    mark    4 bytes  is "KEYS"
    count   u32      count of table
block table after head repeats sorted by key
    key     u32      name hash
    start   u32      start of content
    size    u32      size of content
"""


def name(number: int) -> str:
    """A path of 30 characters."""
    return f"boats/skiff_{number % 1000:03}/hull_{number:07}.png"[-30:].rjust(30, "x")


def dictionary(work: Path) -> tuple[Path, Path]:
    """An archive of 100,000 keys of 32 bits, and a list of a million names in which all of theirs are."""
    archive, names, home = work / "keys.bin", work / "home" / "names" / "million.txt", work / "home"
    home.mkdir(parents=True, exist_ok=True)
    (home / "keys.layout").write_text(LAYOUT)
    if not names.exists():
        names.parent.mkdir(parents=True, exist_ok=True)
        names.write_text("".join(f"{name(number)}\n" for number in range(NAMES)))
    if not archive.exists():
        keys = sorted({zlib.crc32(name(number * 10).encode()) for number in range(ENTRIES)})
        start = 8 + 12 * len(keys)
        table = b"".join(struct.pack("<III", key, start + 6 * row, 6) for row, key in enumerate(keys))
        archive.write_bytes(b"KEYS" + struct.pack("<I", len(keys)) + table + b"a lamp" * len(keys))
    return archive, names


def hunt(work: Path) -> Path:
    """A game whose names are to be mined out of 700 MB."""
    folder = work / "hunt"
    if not (folder / loft.NAME).exists():
        (folder / "data").mkdir(parents=True, exist_ok=True)
        loft.write(folder, random.Random(7))
        os.link(work / "game" / "data" / "main.kwp", folder / "data" / "main.kwp")
    return folder


def rate(work: Callable[[], object], count: int) -> float:
    """Millions a second."""
    return count / 1e6 / fastest(work)


def _looped(hashed: Callable[[bytes], int], names: list[bytes], wanted: set[int]) -> int:
    return sum(hashed(name) in wanted for name in names)


def measure() -> dict[str, float]:
    """What was hashed -> millions of names a second, on one core."""
    targets = Targets([random.Random(1).getrandbits(64) for _ in range(10_000)])
    wanted = set(targets.keys.tolist())
    names = [name(number).encode() for number in range(NAMES)]
    lines, starts = b"".join(names), np.arange(0, 30 * NAMES, 30)
    digits = [b"%d" % number for number in range(10)]
    ends = _ends()
    whole = SuffixTrie(
        tuple(b"%03d/hull_of_the_skiff_26.png" % number for number in range(1000)), (0,) * 1000, (True,) * 1000
    )
    found = {
        "zlib.crc32 in a plain loop": rate(lambda: _looped(zlib.crc32, names, wanted), NAMES),
        "xxhash.xxh64 in a plain loop": rate(lambda: _looped(xxhash.xxh64_intdigest, names, wanted), NAMES),
    }
    for algorithm in ("fnv1a(bits 64)", "fnv1a", "djb2", "one_at_a_time", "crc32", "murmur3", "xxh64"):
        made = BulkHash(algorithm)
        fresh, end = [[b"ab"], digits, digits, digits], [[b"boats/skiff_of_the_isles/"], *[digits] * 4]
        found[f"{algorithm}: a list"] = rate(lambda made=made: made.of(lines, starts, starts + 30), NAMES)  # type: ignore[misc]
        found[f"{algorithm}: 30 characters, 28 of them new"] = rate(
            functools.partial(made.walk, fresh, 0, 1000, whole, targets), 10**6
        )
        found[f"{algorithm}: 32 characters, the end varies"] = rate(
            functools.partial(made.walk, end, 0, 10_000, ends, targets, 64), 10**7
        )
    return {what: round(one, 1) for what, one in found.items()}


def _ends() -> SuffixTrie:
    """000 to 999 as a tree."""
    nodes = []
    for first in range(10):
        nodes.append((b"%d" % first, 0, False))
        for second in range(10):
            nodes.append((b"%d" % second, 1, False))
            nodes += [(b"%d" % third, 2, True) for third in range(10)]
    texts, depth, leaf = zip(*nodes, strict=True)
    return SuffixTrie(texts, depth, leaf)


if __name__ == "__main__":
    for what, speed in measure().items():
        print(f"{what:<56}{speed:>8,} M/s")
