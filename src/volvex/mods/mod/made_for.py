"""For which game a mod was made, by what is in that game: names and sizes of its files, digests of those that the mod
changes.

A game without a description has no name but that of its folder, which is another one for everybody. So it is known by
its content; the folder's name is the last hint.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from volvex.bench.game import Game
from volvex.mods.mod.folder import CONTENTS
from volvex.source import typed
from volvex.source.digest import digest_file

MOST = 200  # files that are listed: the largest ones
LARGEST = 1 << 32  # bytes of a file whose digest is taken
SHARE = 0.6  # of the listed files that a game must have
NAME = "game"  # in the contents of a mod


@dataclass(frozen=True)
class MadeFor:
    """The game that a mod was made for."""

    described: bool  # whether it had a description, whose name the mod gives
    files: Mapping[str, int] = field(default_factory=dict)  # paths and sizes
    changed: Mapping[str, str] = field(default_factory=dict)  # of the files that the mod changes, with digests

    def record(self) -> dict[str, Any]:
        return asdict(self)

    def is_in(self, game: Game) -> bool:
        """Whether a game has that content: a file that the mod changes bit for bit, or most of the files by name, some
        of them of the same size."""
        for name, digest in self.changed.items():
            original = game.original(name)
            if original is not None and original.stat().st_size <= LARGEST and digest_file(original) == digest:
                return True
        there = {name: file.stat().st_size for name in self.files if (file := game.original(name)) is not None}
        same = sum(self.files[name] == size for name, size in there.items())
        return bool(self.files) and len(there) >= SHARE * len(self.files) and same > 0


def made_for(game: Game, described: bool, changed: Iterable[str]) -> MadeFor:
    """What says which game a mod is for; `changed` are the files of the game in which it changes something."""
    sizes = {name: file.stat().st_size for name, file in game.files()}
    largest = sorted(sizes, key=lambda name: (-sizes[name], name))[:MOST]
    originals = {name: game.original(name) for name in sorted(set(changed))}
    digests = {
        name: digest_file(file)
        for name, file in originals.items()
        if file is not None and file.stat().st_size <= LARGEST
    }
    return MadeFor(described, {name: sizes[name] for name in sorted(largest)}, digests)


def read_made_for(folder: Path) -> MadeFor | None:
    """What a mod in a folder says of its game; None when it says nothing, or nothing that can be read."""
    try:
        value = typed.mapping(typed.load(folder / CONTENTS).get(NAME))
        files = {str(name): typed.whole(size) for name, size in typed.mapping(value.get("files")).items()}
        changed = {str(name): typed.text(digest) for name, digest in typed.mapping(value.get("changed")).items()}
        return MadeFor(value.get("described") is True, files, changed) if len(files) <= MOST else None
    except (OSError, ValueError):
        return None
