"""The usual way: the game's own file is replaced."""

from __future__ import annotations

from collections.abc import Sequence

from volvex.archive.transfer.parallel import OnProgress
from volvex.bench.build import Built, build_file
from volvex.bench.changes import FileChange
from volvex.bench.workbench import Workbench
from volvex.mods.ways._base import Way


class Replace(Way):
    """The file itself, rebuilt with its changes."""

    name = "replace"

    def make(self, bench: Workbench, name: str, changes: Sequence[FileChange], on_progress: OnProgress) -> list[Built]:
        return build_file(bench, name, changes, on_progress)
