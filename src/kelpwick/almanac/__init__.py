"""The almanac: the game's tables, texts and scenes, and the rules that tie them together, in a pack of their own."""

from __future__ import annotations

import random
from pathlib import Path

from kelpwick.almanac import ledgers, rules, sayings, scenes
from kelpwick.pack import Item, read_pack, write_pack

NAME = "data/almanac.kwp"


def make(folder: Path, seed: int, version: int = 1) -> None:
    """Write the pack: the same bytes for the same seed."""
    files = {**ledgers.files(), **sayings.files(), **scenes.files(), **rules.files(version)}
    items = [Item(path, content, 8) for path, content in sorted(files.items())]
    write_pack(folder / NAME, items, random.Random(f"{seed} almanac").randbytes(12))


def load(folder: Path) -> dict[str, bytes]:
    """Every file of the pack."""
    return read_pack(folder / NAME)
