"""Each mod as an add-on of the game's own format: a folder or a ZIP with a descriptor, in the folder where the game
looks for them, and with a line in the game's list where it keeps one.

The game takes files whole, so a file that several mods change is in the add-on of the last of them, with the changes of
all.
"""

from __future__ import annotations

import shutil
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from volvex.archive.transfer.parallel import OnProgress
from volvex.bench.add_ons import AddOns
from volvex.bench.build import Built
from volvex.bench.changes import FileChange
from volvex.bench.game_description import GameDescription
from volvex.bench.workbench import Workbench
from volvex.errors import RefusedError
from volvex.mods.mod.content import Descriptor
from volvex.mods.ways._base import Carried, Way, copied, whole_entries
from volvex.mods.ways._descriptor import Filling, filled, filled_line
from volvex.source import atomic
from volvex.source.zip_out import write_zip


class AddOnFolder(Way):
    """`[folder]`: a folder of add-ons, which the game loads by their names."""

    name = "folder"

    def __init__(self, description: GameDescription, carried: Carried | None = None) -> None:
        super().__init__(description, carried)
        self.add_ons = self._add_ons()
        self._game: Path | None = None

    def _add_ons(self) -> AddOns:
        assert self.description.folder is not None  # required where the description is read
        return self.description.folder

    @property
    def state(self) -> str:
        return f"{self.name} {self.add_ons} {dict(self.carried.owners)} {list(self.carried.mods.items())}"

    def target(self, name: str) -> str | None:
        return name if self.add_ons.carries(name) else None

    def carry(
        self, bench: Workbench, name: str, changes: Sequence[FileChange], target: str, on_progress: OnProgress
    ) -> list[Built] | str:
        if not whole_entries(bench, name, changes):
            return "archives in it have changes"
        return [self._placed(bench, change) for change in changes]

    def _placed(self, bench: Workbench, change: FileChange) -> Built:
        mod = self.carried.owners.get(change.path) or self.carried.owners.get(change.source)
        mod = mod or next(iter(self.carried.mods))
        inner = bench.home(change.path)[1]
        path = "/".join(filter(None, (self._root(bench)[1], self._name(mod), self.add_ons.content, inner)))
        return replace(copied(bench, change, path), mod=mod, outside=self._outside(bench))

    def _root(self, bench: Workbench) -> tuple[Path, str]:
        return self.add_ons.folder(bench.game.folder, self.description.places)

    def _outside(self, bench: Workbench) -> str:
        return self.name if self._root(bench)[0] != bench.game.folder else ""

    def _name(self, mod: str) -> str:
        """The name of a mod's add-on; the order is that of the mods, so that names sort as the mods do."""
        descriptor = self.carried.mods[mod][0]
        order = list(self.carried.mods).index(mod) + 1
        name = self.add_ons.name.replace("{order}", f"{order:03}")
        return name.replace("{id}", descriptor.id).replace("{version}", descriptor.version)

    def finish(self, bench: Workbench, built: Sequence[Built]) -> list[Built]:
        root, prefix = self._root(bench)
        result = [built for built in built if not self._is_ours(built, prefix)]
        for mod, (descriptor, folder) in self.carried.mods.items():
            place = f"{prefix}/{self._name(mod)}"
            own = [built for built in built if self._is_ours(built, prefix) and built.path.startswith(place + "/")]
            if not own:
                continue
            self._require_free(root, place, bench)
            own += self._described(bench, place, descriptor, folder)
            if self.add_ons.format == "zip":
                own = [self._zipped(bench, place, own)]
            result += [replace(built, mod=mod, outside=self._outside(bench)) for built in own]
        return result

    @staticmethod
    def _is_ours(built: Built, prefix: str) -> bool:
        return built.path.startswith(prefix + "/") and not built.absent and not built.lines

    def _require_free(self, root: Path, place: str, bench: Workbench) -> None:
        """RefusedError when there is an add-on of that name which Volvex did not put there."""
        from volvex.mods.installed import installed

        ours = any(path == place or path.startswith(place + "/") for path in installed(root))
        if (root / place).exists() and not ours:
            raise RefusedError(f"there is an add-on {root / place} already", "removing it, or another id for the mod")

    def _described(self, bench: Workbench, path: str, descriptor: Descriptor, folder: Path | None) -> list[Built]:
        """The descriptor of the game's own format, and the icon."""
        made = []
        icon = Path(descriptor.icon).name if descriptor.icon and folder is not None else ""
        if self.add_ons.descriptor:
            assert self.description.file is not None
            template = self.description.file.parent / self.add_ons.template
            data = filled(template, self.add_ons.descriptor, Filling(descriptor, icon, path.rpartition("/")[2]))
            made.append(_written(bench, f"{path}/{self.add_ons.descriptor}", data))
        if icon and folder is not None:
            made.append(_written(bench, f"{path}/{icon}", (folder / descriptor.icon).read_bytes()))
        return made

    def _zipped(self, bench: Workbench, path: str, own: Sequence[Built]) -> Built:
        """The files of an add-on as one ZIP, the same bytes for the same files."""
        target = bench.built / f"{path}.making"
        with atomic(bench.disk, target, durable=False) as out:
            write_zip(out, [(built.path[len(path) + 1 :], bench.built / built.path) for built in own])
        shutil.rmtree(bench.built / path)
        bench.disk.replace(target, bench.built / path)
        file = bench.built / path
        return Built(path, file.stat().st_size, sum(built.changes for built in own), None)


class AddOnList(AddOnFolder):
    """`[list]`: a folder of add-ons of which the game loads those that are in a list."""

    name = "list"

    def _add_ons(self) -> AddOns:
        assert self.description.list is not None
        return self.description.list

    def finish(self, bench: Workbench, built: Sequence[Built]) -> list[Built]:
        made = super().finish(bench, built)
        prefix = self._root(bench)[1]
        used = {built.path[len(prefix) + 1 :].partition("/")[0] for built in made if self._is_ours(built, prefix)}
        lines = tuple(
            filled_line(self.add_ons.line, Filling(descriptor, "", self._name(mod)))
            for mod, (descriptor, _) in self.carried.mods.items()
            if self._name(mod) in used
        )
        return [*made, Built(self.add_ons.list, 0, len(lines), None, lines=lines)] if lines else made


def _written(bench: Workbench, path: str, data: bytes) -> Built:
    with atomic(bench.disk, bench.built / path, durable=False) as out:
        bench.disk.write(out, data)
    return Built(path, len(data), 0, None)
