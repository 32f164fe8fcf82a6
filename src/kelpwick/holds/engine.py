"""The executable: what its resources and its tail hold."""

from __future__ import annotations

import random
from pathlib import Path

from kelpwick import executable
from kelpwick.holds._zips import unzipped, zipped
from kelpwick.words import SEASONS

NAME = "kelpwick.exe"
NOTICE = (10, 1)
MANIFEST = b'<?xml version="1.0"?>\n<assembly xmlns="urn:schemas-microsoft-com:asm.v1" manifestVersion="1.0"/>\n'


def write(folder: Path, rng: random.Random) -> None:
    files = {f"weather/{season}.csv": _weather(rng).encode() for season in SEASONS}
    notice = b"Kelpwick Light, for keepers of lights and nobody else.\r\n"
    (folder / NAME).write_bytes(executable.make(zipped(files), {NOTICE: notice, (24, 1): MANIFEST}))


def _weather(rng: random.Random) -> str:
    return "\n".join(
        ["night;wind;fog", *(f"{night};{rng.randint(0, 11)};{rng.randint(0, 1)}" for night in range(1, 41)), ""]
    )


def read(folder: Path) -> dict[str, bytes]:
    tail, resources = executable.load((folder / NAME).read_bytes())
    return {"notice": resources.get(NOTICE, b""), **unzipped(tail, NAME)}
