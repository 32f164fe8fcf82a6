"""The mods that a user has for one game: in Volvex's home, not in the game. Which are on, in which order, and what was
settled.

mods/GAME/library.json   order, which are on, decisions
mods/GAME/added/ID/      a mod
mods/GAME/work/          what `install` makes of those that are on
"""

from __future__ import annotations

import contextlib
import json
import shutil
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path

from volvex.archive.safe_names import shown
from volvex.bench.game import Game
from volvex.errors import FormatError, NotFoundError, RefusedError, VolvexError
from volvex.mods.combine.conflict import Decision
from volvex.mods.mod.content import ID, Mod
from volvex.mods.mod.folder import DESCRIPTOR, read_descriptor, read_mod
from volvex.mods.mod.made_for import read_made_for
from volvex.mods.mod.package import opened_mod
from volvex.mods.mod.write import write_mod
from volvex.source import Disk, atomic, typed
from volvex.source.digest import digest_bytes
from volvex.source.lock import held
from volvex.user_files import MODS

FORMAT = 1
NAME, ADDED, WORK = "library.json", "added", "work"


@dataclass(frozen=True)
class Entry:
    """A mod of the library, in its order."""

    id: str
    on: bool


@dataclass(frozen=True)
class Used:
    """How mods were installed the last time: the way, the mods that were preferred, and the archives that were
    meant."""

    way: str = ""
    prefer: tuple[str, ...] = ()
    only: tuple[str, ...] = ()


@dataclass
class ModLibrary:
    """The mods for one game's folder."""

    folder: Path
    game: Path
    disk: Disk
    entries: list[Entry] = field(default_factory=list)
    settled: dict[str, Decision] = field(default_factory=dict)
    used: Used = Used()

    @classmethod
    def of(cls, home: Path, game: Path, disk: Disk) -> ModLibrary:
        """The library of a game's folder; FormatError when its file is damaged."""
        game = game.resolve()
        name = digest_bytes(game.as_posix().encode("utf-8", "surrogateescape"))[:16]
        library = cls(home / MODS / name, game, disk)
        path = library.folder / NAME
        if path.is_file():
            try:
                library._read(path)
            except ValueError as error:
                raise FormatError(
                    path, f"not a valid library of mods: {error}", hint="removing it: the mods stay, and are off then"
                ) from error
        known = {entry.id for entry in library.entries}
        library.entries += [Entry(text, False) for text in library._added() if text not in known]
        return library

    def _added(self) -> list[str]:
        folder = self.folder / ADDED
        return sorted(path.name for path in folder.iterdir() if ID.fullmatch(path.name)) if folder.is_dir() else []

    def _read(self, path: Path) -> None:
        value = typed.load(path)
        if value.get("mods") != FORMAT:
            raise ValueError("another version")
        there = set(self._added())
        for one in typed.listed(typed.member(value, "order")):
            row = typed.mapping(one)
            name = typed.text(typed.member(row, "id"))
            if name in there:
                self.entries.append(Entry(name, row.get("on") is True))
        for key, record in typed.items(value.get("settled", {})):
            self.settled[key] = Decision(
                typed.text(typed.member(record, "mod")), typed.text(typed.member(record, "state"))
            )
        used = typed.mapping(value.get("used", {}))
        lists = [tuple(map(typed.text, typed.listed(used.get(name, [])))) for name in ("prefer", "only")]
        self.used = Used(typed.text(used.get("way", "")), *lists)

    def save(self) -> None:
        """Write which mods are on, in which order, and what was settled."""
        value = {
            "mods": FORMAT,
            "game": str(self.game),
            "order": [{"id": entry.id, "on": entry.on} for entry in self.entries],
            "used": asdict(self.used),
            "settled": {
                key: {"mod": decision.mod, "state": decision.state} for key, decision in sorted(self.settled.items())
            },
        }
        with atomic(self.disk, self.folder / NAME) as file:
            self.disk.write(file, (json.dumps(value, indent=1) + "\n").encode())

    @contextlib.contextmanager
    def locked(self) -> Iterator[None]:
        """Nobody else changes the library or builds from it meanwhile."""
        with held(self.folder / "library.lock"):
            self._recover()
            yield

    def _recover(self) -> None:
        """Undo what an interrupted change left: a mod that was to be replaced comes back."""
        for path in sorted(self.folder.iterdir()) if self.folder.is_dir() else ():
            kind, _, name = path.name.partition("-")
            if kind == "old" and ID.fullmatch(name):
                if not self.path(name).exists() and self._is_listed(name):
                    self.disk.replace(path, self.path(name))
                shutil.rmtree(path, ignore_errors=True)
            elif kind == "new" and ID.fullmatch(name):
                shutil.rmtree(path, ignore_errors=True)

    def _is_listed(self, name: str) -> bool:
        try:
            rows = typed.listed(typed.load(self.folder / NAME).get("order"))
        except (ValueError, OSError):
            return True
        return any(isinstance(row, dict) and row.get("id") == name for row in rows)

    # mods

    def path(self, name: str) -> Path:
        return self.folder / ADDED / name

    def entry(self, name: str) -> Entry:
        """The mod with this id; NotFoundError when there is none."""
        found = next((entry for entry in self.entries if entry.id == name), None)
        if found is None:
            there = ", ".join(entry.id for entry in self.entries)
            raise NotFoundError(
                f"there is no mod {shown(name)}", f"one of {there}" if there else "`volvex mod add FILE`"
            )
        return found

    def mods(self, on: bool = True) -> list[Mod]:
        """The mods that are on (or all), in their order; FormatError for one that is damaged."""
        return [read_mod(self.path(entry.id)) for entry in self.entries if entry.on or not on]

    def readable(self, on: bool = False) -> list[Mod | VolvexError]:
        """All mods in their order (or those that are on), each read, or what is wrong with it."""
        found: list[Mod | VolvexError] = []
        for entry in self.entries:
            if entry.on or not on:
                try:
                    found.append(read_mod(self.path(entry.id)))
                except VolvexError as error:
                    found.append(error)
        return found

    def add(
        self, source: Path, game: Game, described: str, overwrite: bool = False, any_game: bool = False
    ) -> tuple[Mod, str]:
        """Copy a mod into the library, and turn it on; the mod, and the version that it replaces, if any."""
        self.folder.mkdir(parents=True, exist_ok=True)
        with opened_mod(source, self.folder, self.disk.real) as folder:
            mod = read_mod(folder)
            if not any_game:
                _check_game(mod, game, described)
            return mod, self.put(mod, overwrite)

    def put(self, mod: Mod, overwrite: bool = False) -> str:
        """Write a mod into the library, and turn it on; the version that it replaces, or nothing."""
        before, target = "", self.path(mod.id)
        if target.is_dir():
            with contextlib.suppress(VolvexError):
                before = read_descriptor(target / DESCRIPTOR).version
            if not overwrite:
                raise RefusedError(f"the mod {mod.id} {before} is in the library already", "--overwrite to replace it")
        fresh = self.folder / f"new-{mod.id}"
        shutil.rmtree(fresh, ignore_errors=True)
        try:
            _copy(mod, fresh, self.disk)
            self.disk.make_folder(target.parent)
            old = self.folder / f"old-{mod.id}"
            shutil.rmtree(old, ignore_errors=True)
            if target.is_dir():
                self.disk.replace(target, old)
            self.disk.replace(fresh, target)
            shutil.rmtree(old, ignore_errors=True)
        finally:
            shutil.rmtree(fresh, ignore_errors=True)
        if not self.disk.changes:
            return before
        if mod.id not in [entry.id for entry in self.entries]:
            self.entries.append(Entry(mod.id, True))
        self.sort()
        self.save()
        return before

    def remove(self, name: str) -> None:
        """Take a mod out of the library. What is installed of it stays until the next install."""
        entry = self.entry(name)
        self.entries.remove(entry)
        self.save()
        gone = self.folder / f"old-{name}"
        shutil.rmtree(gone, ignore_errors=True)
        self.disk.replace(self.path(name), gone)
        shutil.rmtree(gone, ignore_errors=True)

    def turn(self, names: Sequence[str], on: bool) -> list[str]:
        """Turn mods on or off; those that were not so already."""
        wanted = {self.entry(name).id for name in names}
        changed = [entry.id for entry in self.entries if entry.id in wanted and entry.on != on]
        self.entries = [replace(entry, on=on) if entry.id in wanted else entry for entry in self.entries]
        self.save()
        return changed

    def order(self, names: Sequence[str]) -> None:
        """Put these mods into this order, in the places that they have; RefusedError when one would come before one
        that it needs."""
        wanted = [self.entry(name).id for name in names]
        if len(set(wanted)) != len(wanted):
            raise RefusedError("a mod is named twice", "each once")
        by_id, left = {entry.id: entry for entry in self.entries}, iter(wanted)
        before = list(self.entries)
        self.entries = [by_id[next(left)] if entry.id in wanted else entry for entry in self.entries]
        asked = [entry.id for entry in self.entries]
        self.sort()
        if [entry.id for entry in self.entries] != asked:
            self.entries = before
            raise RefusedError(
                "this order puts a mod before one that it requires or comes after",
                f"`volvex mod order {' '.join(wanted)}` in another order",
            )
        self.save()

    def sort(self) -> None:
        """Put mods behind those that they require or come after, with as few moves as possible."""
        needs: dict[str, set[str]] = {}
        for entry in self.entries:
            with contextlib.suppress(VolvexError):  # damaged: told where it is used
                descriptor = read_descriptor(self.path(entry.id) / DESCRIPTOR)
                needs[entry.id] = {*(requirement.id for requirement in descriptor.requires), *descriptor.after}
        left, done = list(self.entries), list[Entry]()
        while left:
            waiting = {entry.id for entry in left}
            ready = next((entry for entry in left if not needs.get(entry.id, set()) & (waiting - {entry.id})), None)
            done.append(ready or left[0])  # a circle is told by `check_requirements`
            left.remove(done[-1])
        self.entries = done


def _check_game(mod: Mod, game: Game, described: str) -> None:
    """RefusedError for a mod of another game: by the name of a game that has a description (`described`), else by what
    is in it."""
    facts = read_made_for(mod.folder) if mod.folder is not None else None
    name = mod.descriptor.game
    if described and (facts is None or facts.described):
        same = name.casefold() in (described.casefold(), game.folder.name.casefold())
    elif facts is not None:
        same = facts.is_in(game)
    else:
        same = name.casefold() == game.folder.name.casefold()
    if not same:
        raise RefusedError(
            f"the mod {mod.id} is for {shown(name)}, and this game is {shown(described or game.folder.name)}",
            "--anyway if that is the same game",
        )


def _copy(mod: Mod, folder: Path, disk: Disk) -> None:
    """Write a mod with all that belongs to it: parts that nobody knows are left out, the icon comes along."""
    write_mod(mod, folder, disk)
    icon = mod.descriptor.icon
    if icon and mod.folder is not None:
        with atomic(disk, folder / icon, durable=False) as file:
            disk.write(file, (mod.folder / icon).read_bytes())


def check_requirements(mods: Sequence[Mod]) -> list[str]:
    """What is wrong among mods that are on together, in their order: requirements that are missing, conflicts,
    circles."""
    found = []
    there: Mapping[str, Mod] = {mod.id: mod for mod in mods}
    places = {mod.id: place for place, mod in enumerate(mods)}
    for mod in mods:
        for wanted in mod.descriptor.requires:
            other = there.get(wanted.id)
            if other is None:
                found.append(f"{mod.id} requires {wanted}, which is not on")
            elif not wanted.fits(other.descriptor.version):
                found.append(f"{mod.id} requires {wanted}, and {other.id} is {other.descriptor.version}")
            elif places[other.id] > places[mod.id]:
                found.append(f"{mod.id} and {other.id} require each other, in a circle")
        for unwanted in mod.descriptor.conflicts:
            other = there.get(unwanted.id)
            if other is not None and unwanted.fits(other.descriptor.version):
                found.append(f"{mod.id} cannot be on together with {unwanted}")
    return found
