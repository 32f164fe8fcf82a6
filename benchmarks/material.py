"""What is measured on: a large game, a ZIP with the same content, and two directories of half a million names."""

from __future__ import annotations

import random
import struct
import sys
import zipfile
from collections.abc import Iterable, Iterator
from pathlib import Path

from kelpwick.pack import Item, read_pack, write_pack
from kelpwick.world import GROUPS, files, make_game

SCALE = 200  # 12,400 entries, about 700 MB of content
NAMES = 500_000
LARGE = 1_000


def prepare(work: Path) -> None:
    """Make what is missing."""
    work.mkdir(parents=True, exist_ok=True)
    game, same, many, many_zip = (work / name for name in ("game", "same.zip", "many.kwp", "many.zip"))
    if not (game / "data" / "main.kwp").exists():
        _say(f"making a game of scale {SCALE}")
        make_game(game, scale=SCALE)
    if not (work / "large" / "data" / "main.kwp").exists():
        _say(f"making a game of {LARGE:,} entries of 4 MB")
        make_game(work / "large")
        write_pack(work / "large" / "data" / "main.kwp", _large(), b"large")
    if not same.exists():
        _say("making a ZIP with the same content")
        _zip(same, ((name, content) for name, content in read_pack(game / "data" / "main.kwp").items()))
    if not many.exists():
        _say(f"making archives of {NAMES:,} entries")
        write_pack(many, (Item(name, content, 7, 0) for name, content in _names()), b"many")
    if not many_zip.exists():
        _zip(many_zip, _names())


POOLED = """layout "a million with a pool" kind archive
known by "POOL" at 0
block head at 0
    mark    4 bytes  is "POOL"
    count   u32      count of table
    names   u32      start of pool
block table after head repeats
    name    u32      start of name
    start   u64      start of content
    size    u32      size of content
    group   u32      kept
block pool repeats until end
    text    text zero  names
"""
VARIABLE = """layout "a million of changing size" kind archive
known by "VARI" at 0
block head at 0
    mark    4 bytes  is "VARI"
    count   u32      count of table
block table after head repeats
    name    text u16 name
    start   u64      start of content
    size    u32      size of content
"""
FIXED = """layout "fixed records, several GB" kind archive
known by "FIXD" at 0
block head at 0
    mark    4 bytes  is "FIXD"
    count   u32      count of table
block table after head repeats
    name    text 48  name
    start   u64      start of content
    size    u64      size of content
content align 2048
"""
MILLION, PIECES, PIECE = 1_000_000, 3_000, 1_200_000


def prepare_listings(work: Path) -> None:
    """The directories of a million records, and an archive of fixed records of 3.6 GB, each with its layout."""
    home = work / "home"
    home.mkdir(parents=True, exist_ok=True)
    for name, text in (("pooled", POOLED), ("variable", VARIABLE), ("fixed", FIXED)):
        (home / f"{name}.layout").write_text(text, encoding="utf-8")
    names = [f"charts/north-{number // 400:04}/depth-{number:07}.sdg".encode() for number in range(MILLION)]
    if not (work / "pooled.bin").exists():
        _say("making directories of a million records")
        _pooled(work / "pooled.bin", names)
        _variable(work / "variable.bin", names)
    if not (work / "deep" / "deep.bin").exists():
        _say("making an archive of fixed records of 3.6 GB")
        (work / "deep").mkdir(exist_ok=True)
        _fixed(work / "deep" / "deep.bin")


def _pooled(path: Path, names: list[bytes]) -> None:
    base, place, table = 12 + 20 * len(names), 0, bytearray()
    pool = b"\0".join(names) + b"\0"
    for number, name in enumerate(names):
        table += struct.pack("<IQII", place, base + len(pool), 0, number % 7)
        place += len(name) + 1
    path.write_bytes(b"POOL" + struct.pack("<II", len(names), base) + table + pool)


def _variable(path: Path, names: list[bytes]) -> None:
    end = 8 + sum(14 + len(name) for name in names)
    rows = [struct.pack("<H", len(name)) + name + struct.pack("<QI", end, 0) for name in names]
    path.write_bytes(b"VARI" + struct.pack("<I", len(names)) + b"".join(rows))


def _fixed(path: Path) -> None:
    rng, start = random.Random(5), 8 + 64 * PIECES
    with path.open("wb") as file:
        places = []
        file.seek(start)
        for _ in range(PIECES):
            file.write(bytes(-file.tell() % 2048))
            places.append(file.tell())
            file.write(rng.randbytes(PIECE))
        file.seek(0)
        file.write(b"FIXD" + struct.pack("<I", PIECES))
        for number, place in enumerate(places):
            file.write(f"bells/ring-{number:05}.ring".encode().ljust(48, b"\0") + struct.pack("<QQ", place, PIECE))


def _say(text: str) -> None:
    print(text, file=sys.stderr, flush=True)


def _large() -> Iterator[Item]:
    rng = random.Random(9)
    for path, content in files(rng):
        yield Item(path, content, GROUPS[path.partition("/")[0]])
    for number in range(LARGE):
        yield Item(f"bells/deep/ring-{number:04}.ring", b"RING" + rng.randbytes(4_000_000), GROUPS["bells"], 0)


def _names() -> Iterator[tuple[str, bytes]]:
    rng = random.Random(3)
    folders = [f"charts/{rng.choice(('north', 'south', 'skerry', 'holm'))}-{number:04}" for number in range(2500)]
    for number in range(NAMES):
        yield f"{folders[number % 2500]}/depth-{number:06}.sdg", b"%08d" % number


def _zip(path: Path, files: Iterable[tuple[str, bytes]]) -> None:
    """Stored where the game stores, deflated where it deflates."""
    part = path.with_suffix(".part")
    with zipfile.ZipFile(part, "w") as archive:
        for name, content in files:
            bare = name.endswith((".png", ".ring")) or len(content) < 16
            archive.writestr(name, content, zipfile.ZIP_STORED if bare else zipfile.ZIP_DEFLATED, None if bare else 6)
    part.rename(path)


if __name__ == "__main__":
    prepare(Path(sys.argv[1]))
    prepare_listings(Path(sys.argv[1]))
