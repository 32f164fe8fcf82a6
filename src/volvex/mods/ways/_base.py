"""What all ways have in common."""

from __future__ import annotations

import fnmatch
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from volvex.archive.transfer.parallel import OnProgress
from volvex.archive.transfer.rebuild import file_chunks
from volvex.bench.build import Built, build_file
from volvex.bench.changes import FileChange, content_of
from volvex.bench.game_description import GameDescription
from volvex.bench.workbench import Workbench
from volvex.errors import RefusedError
from volvex.mods.mod.content import Descriptor
from volvex.source import atomic


@dataclass(frozen=True)
class Carried:
    """Whose changes a way carries: the mods in their order, with their descriptors and folders, and for each path the
    last mod that changes it."""

    mods: Mapping[str, tuple[Descriptor, Path | None]] = field(
        default_factory=dict
    )  # by id, which the descriptor of a bench has not
    owners: Mapping[str, str] = field(default_factory=dict)


class Way:
    """Makes the files of one way. `left` are files of the game that are replaced all the same, with the reason."""

    name = ""
    removes = False  # whether it can carry that an entry is left out

    def __init__(self, description: GameDescription, carried: Carried | None = None) -> None:
        self.description, self.carried = description, carried or Carried()
        self.left: list[tuple[str, str]] = []

    def target(self, name: str) -> str | None:
        """Where the changes of a file of the game go; None when the description names no place."""
        raise NotImplementedError

    def carry(
        self, bench: Workbench, name: str, changes: Sequence[FileChange], target: str, on_progress: OnProgress
    ) -> list[Built] | str:
        """The files that carry the changes of an archive; or why that cannot be."""
        raise NotImplementedError

    def make(self, bench: Workbench, name: str, changes: Sequence[FileChange], on_progress: OnProgress) -> list[Built]:
        """The files that carry the changes of a file of the game, or that file itself with its changes."""
        target = self.target(name)
        if any(change.path == name for change in changes):
            made: list[Built] | str = "it is no archive"
        elif target is None:
            made = "the game's description names no place for it"
        elif not self.removes and any(change.what == "removed" for change in changes):
            made = "entries of it are left out"
        else:
            made = self.carry(bench, name, changes, target, on_progress)
        if isinstance(made, str):
            self.left.append((name, made))
            return build_file(bench, name, changes, on_progress)
        return made

    def finish(self, bench: Workbench, built: Sequence[Built]) -> list[Built]:
        """What is to be installed once the files of all changes are made."""
        return list(built)

    @property
    def state(self) -> str:
        """All that decides what is made, but for the game and the changes."""
        return self.name


def target_in(table: Mapping[str, str], name: str) -> str | None:
    """What a table of the description gives for a file of the game."""
    return next((target for pattern, target in table.items() if fnmatch.fnmatchcase(name, pattern)), None)


def require_free(bench: Workbench, path: str) -> None:
    """RefusedError when the game (or somebody else) has a file there already."""
    if bench.game.original(path) is not None:
        raise RefusedError(
            f"the game has a file {path} already, which would win or lose against these changes",
            "removing it, or --way replace",
        )


def whole_entries(bench: Workbench, name: str, changes: Sequence[FileChange]) -> bool:
    """Whether all changes are entries of the archive itself, and not of archives in it."""
    return {bench.home(change.path)[0] for change in changes} == {name}


def copied(bench: Workbench, change: FileChange, path: str) -> Built:
    """The changed content of an entry as a file of its own."""
    with atomic(bench.disk, bench.built / path, durable=False) as out:
        for chunk in file_chunks(content_of(bench, change)):
            bench.disk.write(out, chunk)
    return Built(path, change.after, 1, None)
