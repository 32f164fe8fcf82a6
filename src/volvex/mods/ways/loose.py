"""The changed entries as files in a folder, which win over those of the archive."""

from __future__ import annotations

from collections.abc import Sequence

from volvex.archive.transfer.parallel import OnProgress
from volvex.bench.build import Built
from volvex.bench.changes import FileChange
from volvex.bench.workbench import Workbench
from volvex.mods.ways._base import Way, copied, require_free, target_in, whole_entries


class Loose(Way):
    """`[loose]`: the archive, and the folder whose files win over it."""

    name = "loose"

    def target(self, name: str) -> str | None:
        return target_in(self.description.loose, name)

    def carry(
        self, bench: Workbench, name: str, changes: Sequence[FileChange], target: str, on_progress: OnProgress
    ) -> list[Built] | str:
        if not whole_entries(bench, name, changes):
            return "archives in it have changes"
        built = []
        for change in changes:
            path = f"{target}/{bench.home(change.path)[1]}"
            require_free(bench, path)
            built.append(copied(bench, change, path))
        return built
