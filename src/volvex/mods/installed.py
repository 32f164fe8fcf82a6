"""What is installed in a game's folder, and what has become of it."""

from __future__ import annotations

import os
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from volvex.mods.home import home_of
from volvex.mods.journal import Installed, read_state
from volvex.mods.store import OnProgress, Store
from volvex.mods.transaction import content_id, nothing
from volvex.source import Disk
from volvex.source.digest import stamp_of


def installed(game: Path) -> Mapping[str, Installed]:
    """What is installed in a game's folder, by path."""
    return read_state(home_of(game)).installed


@dataclass(frozen=True)
class FileState:
    """A file that was installed: `installed` as it is, `set aside` (there is no such file), `changed since` (a game
    update?), or its `original` again."""

    path: str
    state: str
    made_of: tuple[str, ...]


def states(game: Path) -> list[FileState]:
    """What has become of each file that was installed, sorted by path."""
    return [
        FileState(name, _state(game / name, installed), installed.made_of)
        for name, installed in sorted(installed(game).items())
    ]


def _state(path: Path, installed: Installed) -> str:
    if is_ours(path, installed):
        return "installed" if installed.now else "set aside"
    return "original" if is_original(path, installed) else "changed since"


def originals(game: Path) -> dict[str, Path | None]:
    """Where the originals of installed files are now; None for files that the game did not have.

    A file that is no longer what was installed (the game was updated) is its own original again.
    """
    store = Store(home_of(game) / "originals", Disk())
    found: dict[str, Path | None] = {}
    for name, one in installed(game).items():
        if is_ours(game / name, one):
            found[name] = store.path(one.original) if one.original else None
    return found


def is_ours(path: Path, installed: Installed, on_progress: OnProgress = nothing) -> bool:
    """Whether a file is still what was installed: untouched since, or with the same bytes, all of which are read; or
    gone, when that is what was installed."""
    if not installed.now:
        return not os.path.lexists(path)
    if path.is_symlink() or not path.is_file():
        return False
    return stamp_of(path) == installed.stamp or content_id(path, installed.now, on_progress) == installed.now


def is_original(path: Path, installed: Installed, on_progress: OnProgress = nothing) -> bool:
    """Whether a file is its own original already, byte for byte."""
    return installed.original is not None and content_id(path, installed.original, on_progress) == installed.original
