"""What is measured on for open archives: sparse ones of many gigabytes, archives within archives, a folder of 100,000
files."""

from __future__ import annotations

import io
import os
import random
import struct
import subprocess
import sys
import zipfile
import zlib
from pathlib import Path

from kelpwick.pack import Item, packed

ENTRY = 100_000_000  # bytes of zeros in an entry of a sparse archive
FILES, FILE = 100_000, 1_000_000
NAMES = ("outer.kpz", "middle.kpz", "inner.kwp", "rules/lamp.txt")


def sparse_zip(path: Path, size: int) -> None:
    """A ZIP archive of stored zeros that takes hardly any room, and a small entry at its end."""
    if path.exists():
        return
    path.parent.mkdir(parents=True, exist_ok=True)
    crc, directory = 0, b""
    for _ in range(ENTRY // 1_000_000):
        crc = zlib.crc32(bytes(1_000_000), crc)
    small = b"the lamp was never out\n" * 1000
    entries = [(f"charts/{number:03}.sdg", ENTRY, crc, b"") for number in range(size // ENTRY)]
    entries += [(f"rules/{number}.txt", len(small), zlib.crc32(small), small) for number in range(3)]
    with path.open("wb") as file:
        for name, length, checksum, data in entries:
            start, raw = file.tell(), name.encode()
            attributes = struct.pack("<HHHIIIIH", 20, 0, 0, 0x5C210000, checksum, length, length, len(raw))
            file.write(b"PK\x03\x04" + attributes + struct.pack("<H", 0) + raw + data)
            if not data:
                file.seek(length, os.SEEK_CUR)
            wide = struct.pack("<HHQ", 1, 8, start)
            directory += (
                b"PK\x01\x02"
                + struct.pack("<H", 45)
                + attributes
                + struct.pack("<HHHHII", len(wide), 0, 0, 0, 0, 0xFFFFFFFF)
                + raw
                + wide
            )
        start = file.tell()
        count, length = len(entries), len(directory)
        file.write(
            directory + struct.pack("<4sQHHIIQQQQ", b"PK\x06\x06", 44, 45, 45, 0, 0, count, count, length, start)
        )
        file.write(struct.pack("<4sIQI", b"PK\x06\x07", 0, start + length, 1))
        file.write(struct.pack("<4sHHHHIIH", b"PK\x05\x06", 0, 0, count, count, length, 0xFFFFFFFF, 0))


def nested(folder: Path) -> None:
    """An archive with 60 MB in it, within one with as much again, within a third."""
    if (folder / NAMES[0]).exists():
        return
    folder.mkdir(parents=True, exist_ok=True)
    rng = random.Random(3)
    bulk = {f"bells/{number:02}.ring": rng.randbytes(3_000_000) for number in range(20)}
    items = [Item(NAMES[3], b"range 9\n" * 2000, 1), *(Item(name, data, 5, 0) for name, data in bulk.items())]
    inner = packed(items, b"nested")
    for name, inside in ((NAMES[1], NAMES[2]), (NAMES[0], NAMES[1])):
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as made:
            made.writestr(zipfile.ZipInfo(inside), inner)
            for other, data in bulk.items():
                made.writestr(zipfile.ZipInfo(other), data)
        inner = out.getvalue()
        if name == NAMES[0]:
            (folder / name).write_bytes(inner)


def many_files(folder: Path) -> None:
    """100,000 files of a megabyte each, all but their heads sparse: some archives, some pictures, some unknown."""
    if (folder / "done").exists():
        return
    rng = random.Random(4)
    for number in range(FILES):
        home = folder / f"{number // 1000:03}"
        if number % 1000 == 0:
            home.mkdir(parents=True, exist_ok=True)
        kind = number % 10
        with (home / f"{number:06}.dat").open("wb") as file:
            file.write(b"\x89PNG\r\n\x1a\n" if kind < 4 else b"OggS" if kind < 8 else rng.randbytes(64))
            file.truncate(FILE)
    for number in range(200):
        (folder / f"{number:03}.kwp").write_bytes(packed([Item("a.txt", b"lamp", 1)], b"many"))
    (folder / "done").write_bytes(b"")


def repacked(work: Path) -> list[str]:
    """The way that there is without us: take all three apart, change a file, put them together again."""
    script = """
set -e
rm -rf "$1/apart"; mkdir -p "$1/apart/1" "$1/apart/2" "$1/apart/3"
unzip -q "$1/nested/outer.kpz" -d "$1/apart/1"
unzip -q "$1/apart/1/middle.kpz" -d "$1/apart/2"
"$2" -m benchmarks.archives apart "$1/apart/2/inner.kwp" "$1/apart/3"
rm "$1/apart/2/inner.kwp" "$1/apart/1/middle.kpz"
"$2" -m benchmarks.archives together "$1/apart/3" "$1/apart/2/inner.kwp"
(cd "$1/apart/2" && zip -q -0 -r ../1/middle.kpz .)
(cd "$1/apart/1" && zip -q -0 -r ../outer.kpz .)
rm -rf "$1/apart"
"""
    return ["sh", "-c", script, "sh", str(work), sys.executable]


def _main(verb: str, source: Path, target: Path) -> None:
    from kelpwick.pack import read_pack, write_pack

    if verb == "apart":
        for name, data in read_pack(source).items():
            (target / name).parent.mkdir(parents=True, exist_ok=True)
            (target / name).write_bytes(data)
        return
    (source / NAMES[3]).write_bytes(b"range 14\n" * 2000)
    files = sorted(path for path in source.rglob("*") if path.is_file())
    write_pack(
        target,
        (Item(path.relative_to(source).as_posix(), path.read_bytes(), 1, int(path.suffix == ".txt")) for path in files),
        b"nested",
    )


def bench_of(volvex: str, game: Path, bench: Path) -> None:
    """A bench for a game, unless there is one."""
    if not (bench / "bench.json").exists():
        subprocess.run([volvex, "bench", str(game), str(bench)], check=True, stdout=subprocess.DEVNULL)


if __name__ == "__main__":
    _main(sys.argv[1], Path(sys.argv[2]), Path(sys.argv[3]))


def loose_files(folder: Path) -> None:
    """4,000 files of a few kilobytes, of no known format: packed bytes, tables, models, text."""
    if folder.is_dir():
        return
    folder.mkdir(parents=True)
    chance = random.Random(4)
    for number in range(4000):
        size = chance.randrange(800, 9000)
        words = size // 4
        data = (
            chance.randbytes(size),
            b"TIDE" + b"".join(struct.pack("<HHf", row, row * 3 % 77, row / 7) for row in range(size // 8)),
            bytes(size) + chance.randbytes(200),
            b"HULL" + struct.pack(f"<{words}f", *(chance.random() for _ in range(words))),
            f"line {number} of the logbook\n".encode() * (size // 24),
            b"\0\1" + bytes(chance.choices(range(32), k=size)),
            b"".join(chance.choices((b"\0\0\x80\x3f", b"\1\0\0\0", b"lamp"), k=words)),
        )[number % 7]
        (folder / f"piece-{chance.randrange(1 << 32):08x}.dat").write_bytes(data)
