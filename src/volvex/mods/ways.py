"""The ways in which a game takes changed content: the archive itself, an archive that is loaded later, or loose files.

The game's description says which it honours. What a way cannot carry (an entry that is left out, a file that is no archive) goes
into the game's own file, and is told.
"""

from __future__ import annotations

import fnmatch
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from volvex.archive.transfer.parallel import OnProgress
from volvex.archive.transfer.rebuild import file_chunks, rebuild_files
from volvex.bench.build import Built, build_file, check_origins, verify_entries, work_on
from volvex.bench.changes import FileChange
from volvex.bench.game_description import GameDescription
from volvex.bench.workbench import Workbench
from volvex.errors import RefusedError, UsageError
from volvex.source import FileSource, Spool, atomic

REPLACE, LATER, LOOSE = "replace", "later", "loose"


def way_of(description: GameDescription, wanted: str | None) -> str:
    """The way that was asked for, or the game's usual one; UsageError for one that the game does not honour."""
    if wanted is None:
        return description.takes[0] if description.takes else REPLACE
    if wanted not in description.takes:
        raise UsageError(
            f"{description.name} does not take changes the way `{wanted}`",
            f"--way with one of {', '.join(description.takes)}",
        )
    return wanted


@dataclass
class WayMaker:
    """Makes the files of one way; `left` are files of the game that are replaced all the same, with the reason."""

    description: GameDescription
    way: str
    left: list[tuple[str, str]] = field(default_factory=list)

    def __call__(self, bench: Workbench, name: str, some: Sequence[FileChange], on_progress: OnProgress) -> list[Built]:
        table = {LATER: self.description.later, LOOSE: self.description.loose}.get(self.way, {})
        target = _target(table, name)
        reason = self._reason(name, some, target)
        if target is None or reason:
            if self.way != REPLACE:
                self.left.append((name, reason))
            return build_file(bench, name, some, on_progress)
        made = self._later if self.way == LATER else self._loose
        return made(bench, name, some, target, on_progress)

    def _reason(self, name: str, some: Sequence[FileChange], target: str | None) -> str:
        """Why a way cannot carry the changes of a file; empty when it can."""
        if any(change.path == name for change in some):
            return "it is no archive"
        if target is None:
            return "the game's description names no place for it"
        if any(change.what == "removed" for change in some):
            return "entries of it are left out"
        return ""

    def _later(
        self, bench: Workbench, name: str, some: Sequence[FileChange], target: str, on_progress: OnProgress
    ) -> list[Built]:
        """An archive of the changed entries only, made after the one that it wins over."""
        _require_free(bench, target)
        bench.require_original(name)
        if bench.renewed(name):
            check_origins(bench, some)
        archive, file = bench.require_archive(name), bench.built / target
        bench.disk.make_folder(file.parent)
        with Spool(file.parent) as spool:
            work = work_on(bench, name, archive, some, spool)
            work.edit.removed |= set(range(len(archive))) - set(work.edit.replaced) - set(archive.folders)
            written = rebuild_files(archive, work.edit, file, bench.disk, on_progress)
        if len(written) > 1:
            raise RefusedError(f"{name} has several volumes, which no later archive can have", "--way replace")
        with archive.reread(FileSource(file, target)) as again:
            verify_entries(bench, work, again)
        return [Built(target, file.stat().st_size, len(some), None)]

    def _loose(
        self, bench: Workbench, name: str, some: Sequence[FileChange], target: str, on_progress: OnProgress
    ) -> list[Built]:
        """The changed entries as files; of an archive within the archive as it is with its changes."""
        homes = {bench.home(change.path)[0] for change in some}
        if homes != {name}:
            self.left.append((name, "archives in it have changes"))
            return build_file(bench, name, some, on_progress)
        built = []
        for change in some:
            path = f"{target}/{bench.home(change.path)[1]}"
            _require_free(bench, path)
            with atomic(bench.disk, bench.built / path, durable=False) as out:
                for chunk in file_chunks(bench.files / change.path):
                    bench.disk.write(out, chunk)
            built.append(Built(path, change.after, 1, None))
        return built


def _target(table: Mapping[str, str], name: str) -> str | None:
    return next((target for pattern, target in table.items() if fnmatch.fnmatchcase(name, pattern)), None)


def _require_free(bench: Workbench, path: str) -> None:
    """RefusedError when the game (or somebody else) has a file there already."""
    if bench.game.original(path) is not None:
        raise RefusedError(
            f"the game has a file {path} already, which would win or lose against these changes",
            "removing it, or --way replace",
        )
