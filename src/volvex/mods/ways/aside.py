"""All of an archive as files in a folder, and the archive set aside: the game reads the folder once the archive is not
there."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence

import numpy as np

from volvex.archive.access.paths import Group
from volvex.archive.archive import Archive
from volvex.archive.transfer.parallel import OnProgress
from volvex.archive.transfer.unpack import unpack
from volvex.bench.build import Built, build_file
from volvex.bench.changes import FileChange
from volvex.bench.workbench import Workbench
from volvex.errors import FormatError
from volvex.mods.ways._base import Way, require_free, target_in
from volvex.source import FileSource
from volvex.source.digest import Fingerprint


class Aside(Way):
    """`[aside]`: the archive, and the folder that takes its place."""

    name = "aside"
    removes = True

    def target(self, name: str) -> str | None:
        return target_in(self.description.aside, name)

    def carry(
        self, bench: Workbench, name: str, changes: Sequence[FileChange], target: str, on_progress: OnProgress
    ) -> list[Built] | str:
        original = bench.game.original(name)
        if not changes:
            archive = bench.require_archive(name)
            return self._unpacked(bench, name, archive, target, 0, on_progress)
        made = build_file(bench, name, changes, on_progress)  # all changes, at any depth; the files are taken out of it
        try:
            if len(made) > 1 or original is None:
                return "it has several volumes"
            with contextlib.ExitStack() as held:
                archive = bench.require_archive(name).reread(FileSource(bench.built / name, name))
                held.enter_context(archive)
                return self._unpacked(bench, name, archive, target, len(changes), on_progress)
        finally:
            for built in made:
                bench.disk.remove(bench.built / built.path)

    def _unpacked(
        self, bench: Workbench, name: str, archive: Archive, target: str, count: int, on_progress: OnProgress
    ) -> list[Built] | str:
        """Every entry as a file, each verified as it is written; or why one cannot be."""
        rows = np.arange(len(archive), dtype=np.int64)
        folder = bench.built / target
        done = unpack([Group(archive, name, rows)], folder, bench.disk, "replace", on_progress)
        if done.faults:
            raise done.faults[0]
        wanted = len(archive) - len(archive.folders)
        if done.refused or done.renamed or done.files != wanted:
            odd = [text for text, _ in (*done.refused, *done.renamed)]
            return f"{odd[0] if odd else 'an entry'} cannot be a file of that name"
        names = [name for row, name in enumerate(archive.names) if row not in archive.folders]
        built = []
        for inner in names:
            path = f"{target}/{inner}"
            require_free(bench, path)
            if not (bench.built / path).is_file():
                raise FormatError(name, f"{inner} was not unpacked, so the archive cannot be set aside")
            built.append(Built(path, (bench.built / path).stat().st_size, 0, None))
        original = bench.game.original(name)
        gone = Built(name, 0, count, Fingerprint.of(original) if original is not None else None, absent=True)
        return [*built, gone]
