"""The winter post: a ZIP archive with a password."""

from __future__ import annotations

import random
from pathlib import Path

from kelpwick.holds._zips import locked, unzipped
from kelpwick.words import KEEPERS, PASSWORD

NAME = "post/winter.kpz"


def write(folder: Path, rng: random.Random) -> None:
    files = {f"letters/{keeper[0]}.txt": _letter(keeper[1], rng).encode() for keeper in KEEPERS}
    (folder / NAME).parent.mkdir(exist_ok=True)
    (folder / NAME).write_bytes(locked(files, PASSWORD.encode(), rng))


def _letter(name: str, rng: random.Random) -> str:
    lines = [f"{rng.randint(2, 40)} barrels, {rng.randint(1, 9)} of them dry." for _ in range(12)]
    return "\n".join([f"For {name}, when the ice is in.", *lines, ""])


def read(folder: Path) -> dict[str, bytes]:
    return unzipped((folder / NAME).read_bytes(), NAME, PASSWORD.encode())
