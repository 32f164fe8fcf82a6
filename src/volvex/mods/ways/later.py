"""An archive of the changed entries only, which the game loads after the one that it wins over."""

from __future__ import annotations

import fnmatch
from collections.abc import Sequence

from volvex.archive.transfer.parallel import OnProgress
from volvex.archive.transfer.rebuild import rebuild_files
from volvex.bench.build import Built, check_origins, verify_entries, work_on
from volvex.bench.changes import FileChange
from volvex.bench.workbench import Workbench
from volvex.errors import RefusedError, VolvexError
from volvex.mods.ways._base import Way, require_free, target_in
from volvex.source import FileSource, Spool


class Later(Way):
    """`[later]`: the archive, and the one that wins over it."""

    name = "later"

    def target(self, name: str) -> str | None:
        return target_in(self.description.later, name)

    def carry(
        self, bench: Workbench, name: str, changes: Sequence[FileChange], target: str, on_progress: OnProgress
    ) -> list[Built] | str:
        require_free(bench, target)
        self._require_winning(bench, name, changes, target)
        bench.require_original(name)
        if bench.renewed(name):
            check_origins(bench, changes)
        archive, file = bench.require_archive(name), bench.built / target
        bench.disk.make_folder(file.parent)
        with Spool(file.parent) as spool:
            work = work_on(bench, name, archive, changes, spool)
            work.edit.removed |= set(range(len(archive))) - set(work.edit.replaced) - set(archive.folders)
            written = rebuild_files(archive, work.edit, file, bench.disk, on_progress)
        if len(written) > 1:
            for text in written:
                bench.disk.remove(file.parent / text)
            return "it has several volumes, which no later archive can have"
        with archive.reread(FileSource(file, target)) as again:
            verify_entries(bench, work, again)
        return [Built(target, file.stat().st_size, len(changes), None)]

    def _require_winning(self, bench: Workbench, name: str, changes: Sequence[FileChange], target: str) -> None:
        """RefusedError when another archive that is loaded still later has one of the entries: it would win over these
        changes."""
        folder, _, own = target.rpartition("/")
        pattern = f"{own.partition('+')[0]}+*" if "+" in own else ""
        wanted = {bench.home(change.path)[1] for change in changes}
        for path, _ in bench.game.files() if pattern else ():
            here, _, other = path.rpartition("/")
            if here != folder or path == name or other <= own or not fnmatch.fnmatchcase(other, pattern):
                continue
            try:
                archive = bench.archive(path)
            except VolvexError:
                continue
            clash = next((text for text in wanted if archive is not None and text in archive.rows), None)
            if clash is not None:
                raise RefusedError(
                    f"{path} is loaded after {target}, and has {clash} too: it would win over these changes",
                    "removing it, --way replace, or a later name in [later] of the game's description",
                )
