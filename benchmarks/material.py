"""What is measured on: a large game, a ZIP with the same content, and two directories of half a million names."""

from __future__ import annotations

import random
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
