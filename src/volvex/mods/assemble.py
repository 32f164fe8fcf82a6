"""From mods to files of the game: combined in a folder of the library, checked, and built; what did not change is built
once."""

from __future__ import annotations

import contextlib
import json
import re
import shutil
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from volvex.archive.transfer.parallel import OnProgress, no_progress
from volvex.bench.build import Built, build
from volvex.bench.check import check
from volvex.bench.copies import places_of
from volvex.bench.game import Game
from volvex.bench.workbench import Workbench
from volvex.data.check import ERROR, Problem
from volvex.errors import RefusedError
from volvex.layout import Library
from volvex.mods.combine.conflict import Conflict, Decisions
from volvex.mods.combine.files import Combination, Combined, combine
from volvex.mods.library import WORK, ModLibrary
from volvex.mods.mod.content import ID, Descriptor, Mod
from volvex.mods.ways import REPLACE, WAYS, Carried
from volvex.mods.ways.aside import Aside
from volvex.source import Disk, atomic, typed
from volvex.source.digest import stamp_of


@dataclass
class Assembled:
    """What became of some mods: files to install, or conflicts."""

    built: list[Built] = field(default_factory=list)
    made_of: dict[str, dict[str, int]] = field(default_factory=dict)  # changes by mod, by file of the game
    left: list[tuple[str, str]] = field(default_factory=list)  # files that the way cannot carry, and why
    conflicts: list[Conflict] = field(default_factory=list)
    problems: list[Problem] = field(default_factory=list)


def staging(library: ModLibrary, game: Game, layouts: Library, disk: Disk, work: str = WORK) -> Workbench:
    """The bench in which mods are combined: it belongs to the library, and nobody edits in it."""
    return Workbench(library.folder / work, game, layouts, disk)


def assemble(
    bench: Workbench,
    mods: Sequence[Mod],
    decisions: Decisions,
    on_progress: OnProgress = no_progress,
    anyway: bool = False,
    way: str = REPLACE,
    only: Sequence[str] = (),
) -> Assembled:
    """Combine mods and build the files of the game that they change. Nothing is built when there is a conflict, or
    (unless `anyway`) an error that the game would not start with. `only`: the archives that are meant where several
    have the same content."""
    memory = _Memory(bench)
    combination = combine(bench, mods, decisions, memory.known)
    result = Assembled(conflicts=combination.conflicts)
    if combination.conflicts:
        return result
    memory.forget()
    _stage(bench, combination, mods)
    result.problems = check(bench, {combined.path for combined in combination.files if combined.kept})
    if not any(problem.level == ERROR for problem in result.problems):
        memory.keep(combination)
    elif not anyway:
        return result
    carried = Carried(
        {mod.id: (_presentable(mod.descriptor), mod.folder) for mod in mods},
        {
            combined.path: next(mod.id for mod in reversed(mods) if mod.id in combined.counts)
            for combined in combination.files
            if combined.counts
        },
    )
    maker = WAYS[way](bench.game.description, carried)
    result.built = build(bench, on_progress, maker, only)
    result.left = maker.left
    own = {combined.path for combined in combination.files}
    for combined in combination.files:
        for path in places_of(bench, combined.path, only, own):
            counts = result.made_of.setdefault(bench.file_of(bench.home(path)[0]), {})
            for mod, count in combined.counts.items():
                counts[mod] = counts.get(mod, 0) + count
    return result


def _presentable(descriptor: Descriptor) -> Descriptor:
    """A descriptor with an id and a version that an add-on can have; a bench among the mods has neither."""
    if ID.fullmatch(descriptor.id):
        return descriptor
    name = re.sub(r"[^a-z0-9._-]+", "-", descriptor.title.lower()).strip("-._") or "bench"
    return replace(descriptor, id=name, version=descriptor.version or "1.0")


def made_of(made: Assembled, mods: Sequence[Mod]) -> dict[str, tuple[str, ...]]:
    """The mods that each built file is made of, with their versions, as the journal keeps them."""
    versions = {mod.id: mod.descriptor.version for mod in mods}
    placed = [mod.id for mod in mods if any(built.mod == mod.id for built in made.built)]

    def names(built: Built) -> Iterable[str]:
        return placed if built.lines else [built.mod] if built.mod else made.made_of.get(built.of, {})

    return {built.path: tuple(f"{mod} {versions.get(mod, '')}".strip() for mod in names(built)) for built in made.built}


def unpacked(bench: Workbench, on_progress: OnProgress = no_progress) -> list[Built]:
    """The files of the way `aside` without any change: what the game must start with before the first change is
    made."""
    way, built = Aside(bench.game.description), list[Built]()
    for name, _ in bench.game.files():
        target = way.target(name)
        if target is not None and bench.archive(name) is not None:
            made = way.carry(bench, name, [], target, on_progress)
            if isinstance(made, str):
                raise RefusedError(f"{name} cannot be set aside: {made}", "--way replace")
            built += made
    return built


class _Memory:
    """What was combined and found sound the last time: it need not be done again for a path that is made of the
    same."""

    def __init__(self, bench: Workbench) -> None:
        self.bench, self.path = bench, bench.folder / "combined.json"
        self._files: dict[str, dict[str, Any]] = {}
        with contextlib.suppress(OSError, ValueError):
            self._files = typed.mapping(typed.load(self.path).get("files"))

    def known(self, path: str, key: str) -> Combined | None:
        """What is staged for a path, when it was made of the same and is untouched since."""
        record, file = self._files.get(path), self.bench.files / path
        if (
            not isinstance(record, dict)
            or record.get("key") != key
            or not isinstance(record.get("counts"), dict)
            or not file.is_file()
        ):
            return None
        if stamp_of(file) != record.get("stamp"):
            return None
        return Combined(path, {str(mod): int(count) for mod, count in record["counts"].items()}, key=key, kept=True)

    def forget(self) -> None:
        """From here on nothing of it counts, until it is kept again."""
        self.path.unlink(missing_ok=True)

    def keep(self, combination: Combination) -> None:
        files = {
            combined.path: {
                "key": combined.key,
                "counts": dict(combined.counts),
                "stamp": stamp_of(self.bench.files / combined.path),
            }
            for combined in combination.files
            if not combined.removed
        }
        with atomic(self.bench.disk, self.path, durable=False) as file:
            self.bench.disk.write(file, json.dumps({"files": files}).encode())


def _stage(bench: Workbench, combination: Combination, mods: Sequence[Mod]) -> None:
    """Write the combined content where a bench has what was edited."""
    wanted = {combined.path for combined in combination.files if not combined.removed}
    if any(combined.kept for combined in combination.files):
        for place in bench.places():
            if place not in wanted:
                bench.disk.remove(bench.files / place)
    else:
        shutil.rmtree(bench.files, ignore_errors=True)
    bench.disk.make_folder(bench.files)
    bench.dropped = {combined.path for combined in combination.files if combined.removed}
    chosen = (pair for mod in mods for pair in mod.descriptor.behind.items())
    bench.after = {path: other for path, other in chosen if path in wanted}
    for combined in combination.files:
        if combined.removed or combined.kept:
            continue
        with atomic(bench.disk, bench.files / combined.path, durable=False) as file:
            if combined.data is not None:
                bench.disk.write(file, combined.data)
            elif combined.file is not None:
                with combined.file.open("rb") as source:
                    while chunk := source.read(1 << 20):
                        bench.disk.write(file, chunk)
