"""The archives of the folder `isles`: six formats of the game's own, each with its writer and its strict reader.

chimes.kwr     entries in a row, each behind a record of its own, until a mark
journals.kwj   found from its end; the directory deflated and masked, each page masked by where it lies
soundings.kws  no names, only 64-bit hashes, sorted, as the game searches them; content in blocks
shores.kwt     a tree of folders by first child and number; all content in one stream
rigging.kwo    a package of objects, each of a type that has a record of its own
tides.kwv      in an order of bytes that a mark tells, with fields by version; a digest at its tail
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from kelpwick import GameError
from kelpwick.isles import chimes, journals, rigging, shores, soundings, tides

FORMATS = {
    "chimes.kwr": chimes,
    "journals.kwj": journals,
    "soundings.kws": soundings,
    "shores.kwt": shores,
    "rigging.kwo": rigging,
    "tides.kwv": tides,
}


def read(folder: Path, name: str) -> dict[str, bytes]:
    """The content of one of these archives; GameError when anything in it is not as it must be."""
    path = folder / name
    if not path.is_file():
        raise GameError(f"isles/{name} is missing")
    try:
        found: dict[str, bytes] = FORMATS[name].read(path.read_bytes())
        return found
    except GameError as error:
        raise GameError(f"isles/{name}: {error}") from error


def write(folder: Path, name: str, files: Mapping[str, bytes]) -> None:
    """Write one of these archives."""
    (folder / name).write_bytes(FORMATS[name].write(files))
