"""A game of 50 archives with 1 GB, and 100 mods with 10,000 changes of fields in them."""

from __future__ import annotations

import json
import random
from itertools import chain
from pathlib import Path

from kelpwick.pack import Item, write_pack

ARCHIVES, ROWS, MODS, CHANGES = 50, 400, 100, 100
FILL = 20 << 20  # bytes of an archive beside its table


def game(folder: Path) -> None:
    """The game: in each archive a table of lamps, and recordings that do not compress."""
    if (folder / "done").exists():
        return
    folder.mkdir(parents=True, exist_ok=True)
    for number in range(ARCHIVES):
        chance = random.Random(number)
        items = [Item("rules/lamps.json", _table(number), 1)]
        items += [Item(f"bells/{number:02}.ring", b"RING" + chance.randbytes(FILL // 20), 5, 0) for number in range(20)]
        write_pack(folder / f"night-{number:02}.kwp", iter(items), chance.randbytes(12))
    (folder / "done").write_bytes(b"")


def _table(number: int) -> bytes:
    lamps = [{"id": f"lamp_{row}", "range": number + row, "oil": row % 7} for row in range(ROWS)]
    return (json.dumps({"lamps": lamps}, indent=1) + "\n").encode()


def mods(folder: Path, name: str) -> None:
    """The mods: each with changes of its own in two of the archives."""
    if (folder / "done").exists():
        return
    for mod in range(MODS):
        home = folder / f"mod-{mod:03}"
        home.mkdir(parents=True, exist_ok=True)
        (home / "mod.toml").write_text(f'id = "mod-{mod:03}"\nversion = "1.0"\ngame = "{name}"\n')
        for number in (mod % ARCHIVES, (mod + 1) % ARCHIVES):
            rows = range(mod // ARCHIVES * 100 + (50 if number != mod % ARCHIVES else 0), ROWS)[: CHANGES // 2]
            changes = [
                {
                    "what": "set",
                    "sheet": "lamps",
                    "id": f"lamp_{row}",
                    "field": "range",
                    "before": str(number + row),
                    "after": str(1000 + mod),
                }
                for row in rows
            ]
            path = home / "changes" / f"night-{number:02}.kwp" / "rules" / "lamps.json.json"
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(json.dumps({"changes": changes}))
    (folder / "done").write_bytes(b"")


def pair(folder: Path) -> tuple[Path, Path]:
    """Two archives of 1 GB that differ in one value of one entry."""
    files = folder / "old.kwp", folder / "new.kwp"
    for path, number in zip(files, (0, 1), strict=True):
        if path.exists():
            continue
        folder.mkdir(parents=True, exist_ok=True)
        chance = random.Random(5)
        fill = (
            Item(f"bells/{number:03}.ring", b"RING" + chance.randbytes(FILL // 4), 5, 0)
            for number in range(4 * ARCHIVES)
        )
        write_pack(path, chain([Item("rules/lamps.json", _table(number), 1)], fill), bytes(12))
    return files
