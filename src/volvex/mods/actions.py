"""What an install or a restore does to each file of a game."""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

from volvex.errors import RefusedError


@dataclass(frozen=True)
class Action:
    """What would happen, or happened, to a file of the game. Sizes in bytes."""

    path: str
    what: str  # replace, add, put back, remove, skip
    before: int | None
    after: int | None
    why: str = ""
    hint: str = ""  # what to do about it


@dataclass
class Done:
    """The result of an install or a restore, file by file."""

    actions: list[Action] = field(default_factory=list)
    skipped: list[Action] = field(default_factory=list)  # what was not done, and why


def leave_out(done: Done, left: set[str]) -> None:
    """What was to be done, and was not since a file changed under our hands."""
    done.skipped += [
        Action(action.path, "skip", action.before, action.before, "changed by another program meanwhile")
        for action in done.actions
        if action.path in left
    ]
    done.actions = [action for action in done.actions if action.path not in left]


def size_of(path: Path) -> int | None:
    return path.stat().st_size if path.is_file() else None


def require_writable(game: Path, names: Iterable[str]) -> None:
    """Find out before anything is done whether the files can be replaced: they, and the folders in which names
    change."""
    for name in names:
        target = game / name
        try:
            if target.exists():
                with target.open("r+b"):
                    pass
            folder = next(parent for parent in target.parents if parent.exists())
            if not os.access(folder, os.W_OK | os.X_OK):
                raise PermissionError(folder)
        except PermissionError as error:
            raise RefusedError(
                f"{target} cannot be written", "closing the game, or the rights to its folder"
            ) from error
