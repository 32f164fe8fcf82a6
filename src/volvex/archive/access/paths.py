"""Paths that walk through archives as through folders: `game/data/*.kwp/rules/*.xml`.

A path is a row of components with forward slashes. `*`, `?` and `[...]` match within one component, `**`
matches any number of them. A path without wildcards that ends at a folder, on disk or in an archive,
means everything below it.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from volvex.archive.access.match import Above, Variants, Way, entries_matching, leading_on, within
from volvex.archive.access.merged import MARK, LoadOrder, Tree, merged
from volvex.archive.access.near_misses import joined_path, meant, missing_entry
from volvex.archive.access.nested import DEEPEST, open_entry
from volvex.archive.access.open import open_archive
from volvex.archive.access.patterns import WILD, path_pattern, pattern_of
from volvex.archive.access.pieces import Sibling, first_in
from volvex.archive.archive import Archive
from volvex.archive.safe_names import quoted, shown
from volvex.errors import FormatError, NotFoundError, TooLargeError, UsageError, VolvexError
from volvex.layout import Layout, Library
from volvex.layout.columns import Array
from volvex.library_errors import one_of_many, unreadable

MOST_INNER = 50_000  # archives within archives that are entered without being named
DESCRIPTION = "bench.json"  # the file that makes a folder a bench
LAYOUTS = "layouts"  # the folder with a bench's own layouts; what lies in `files` is content, and never steers anything
HIDDEN = ".volvex"  # the folder in which installs are kept; never part of a game's content


Locate = Callable[[str], tuple[Path, str]]  # for a path that a user gave: the folder from which it counts, and the rest


@dataclass(frozen=True)
class Group:
    """Entries of one archive: rows in the directory's order."""

    archive: Archive
    path: str
    rows: Array
    above: Above = ()  # the entries through which it is reached, the outermost first
    home: str = ""  # the path of the archive's own file, where `path` is one of the tree that a game sees

    @property
    def root(self) -> str:
        """What its paths begin with that is no entry of an archive."""
        inner = sum(len(archive.names[row]) + 1 for archive, row in self.above)
        return self.path[: len(self.path) - inner]

    @property
    def file(self) -> str:
        """The path of the file on disk through which it is reached."""
        return self.home or self.root

    @property
    def archive_path(self) -> str:
        """The path of the archive itself, by which it is opened again; `path` is the same for all of one tree."""
        return self.home or self.path

    def disk_path(self, row: int) -> str | None:
        """Where an entry is put below a folder that mirrors the tree; None when it gets no place."""
        parts = [archive.disk_names[at] for archive, at in (*self.above, (self.archive, row))]
        return "/".join([self.file, *map(str, parts)]) if all(isinstance(part, str) for part in parts) else None

    def paths(self) -> list[str]:
        """The entries' whole paths. Not safe to print: see `shown`."""
        names = self.archive.names
        return [f"{self.path}/{names[row]}" for row in self.rows.tolist()]


@dataclass(frozen=True)
class Found:
    """What a path means: groups of entries, and plain files on disk."""

    groups: list[Group]
    files: list[tuple[str, Path]]
    homes: dict[str, str] = field(default_factory=dict)  # of files in the tree that a game sees: their own paths

    def __len__(self) -> int:
        return sum(len(group.rows) for group in self.groups) + len(self.files)


class Walker:
    """Finds what paths mean; keeps the archives that it opened until it is closed."""

    def __init__(
        self,
        library: Library,
        layout: Layout | None = None,
        variant: str = "",
        locate: Locate | None = None,
        originals: Mapping[Path, Path | None] | None = None,
    ) -> None:
        """`layout` is that of every file on disk that is entered. `originals` has for files that an install replaced
        what they were, and None for those that it added: these are as if they were not there."""
        self.library, self.layout = library, layout
        self._locate, self._originals = locate, originals or {}
        self.variants = Variants(variant)
        self._open: dict[Path, Archive | None] = {}
        self._inner: dict[tuple[int, int], Archive | None] = {}  # archives within archives: (archive, row)
        self._whole = False  # whether an archive within an archive is taken as the entry that it is
        self._nested = False  # whether archives within archives are entered without being named
        self._linked: set[Path] = set()  # folders that links led to
        self._entered = 0  # archives within archives that were entered without being named; deep ones count more
        self._pieces: set[Path] = set()  # pieces and volumes of archives that were opened
        self.order: Callable[[Path], LoadOrder] = lambda folder: LoadOrder()  # in which a game loads its archives
        self.salvage = False  # whether of archives that are damaged what is left is taken
        self.faults: list[VolvexError] = []  # archives that a wildcard met and that could not be opened

    def __enter__(self) -> Walker:
        return self

    def __exit__(self, *_: object) -> None:
        for archive in (*reversed(self._inner.values()), *self._open.values()):
            if archive is not None:
                archive.close()
        self._inner.clear()
        self._open.clear()

    def archive(self, path: Path, name: str) -> Archive | None:
        """The archive at a path of the disk; None when it is a plain file."""
        if path not in self._open:
            there = self._there(path)
            sibling = None if there == path else lambda other: self._beside(path.with_name(other))
            found = self._open[path] = self._opened(there, name, sibling)
            if found is not None:
                self._pieces |= {path.with_name(name) for name in found.kept_beside}
        return self._open[path]

    def _opened(self, path: Path, name: str, sibling: Sibling | None) -> Archive | None:
        try:
            return open_archive(path, self.library, name, self.layout, sibling)
        except FormatError as error:
            if not self.salvage:
                raise
            from volvex.archive.transfer.salvage import open_salvaged

            error.hint = "a fresh copy of the file: only what is whole was taken from this one"
            self.faults.append(error)
            return open_salvaged(path, self.library, name)

    def _there(self, path: Path) -> Path:
        """Where the bytes of a file lie that are meant."""
        return self._originals.get(path) or path

    def _beside(self, path: Path) -> Path | None:
        there = self._originals.get(path, path)
        return there if there is not None and there.is_file() else None

    def inner(self, archive: Archive, row: int, name: str, asked: bool = True) -> Archive | None:
        """The archive that an entry holds; None when it holds none."""
        key = (id(archive), row)
        if key not in self._inner or (asked and self._inner[key] is None):
            self._inner[key] = open_entry(archive, row, self.library, name, asked)
        return self._inner[key]

    def find(self, path: str, deep: bool = False, nested: bool = False, whole: bool = False) -> Found:
        """What a path means; NotFoundError with near misses when it means nothing.

        With `deep`, archives below a folder are entered (by default they count as files). With `nested`, archives
        within archives are entered too (by default only where the path leads through them). With `whole`, an archive to
        which the path leads is the file or the entry that it is.
        """
        self._nested, self._whole = nested, whole
        self._linked.clear()
        faults = len(self.faults)
        path = path.replace("\\", "/") if os.name == "nt" else path
        found = Found([], [])
        if self._is_merged(path):
            self._find_merged(path, found)
        if not len(found):  # or a path in which a slash is doubled
            here, root, parts = self._start(path)
            self._walk(here, root, parts, deep, found)
        self.variants.check(path)
        if not found.groups and not found.files:
            if len(self.faults) > faults:
                raise self.faults.pop()
            if self._is_merged(path) and self._game_of(path).is_dir():
                raise NotFoundError(f"the game sees nothing at {shown(path)}", "`volvex list GAME//` for all it sees")
            raise self._missing(path)
        return found

    def _is_merged(self, path: str) -> bool:
        """Whether a path is one of the tree that a game sees: of the bench's game, or of one whose folder stands before
        it."""
        return MARK in path and (not path.startswith(MARK) or self._locate is not None)

    def _game_of(self, path: str) -> Path:
        """The folder of the game in whose tree a path is."""
        base, inner = self.located(path.partition(MARK)[0])
        return base / inner

    def _find_merged(self, path: str, found: Found) -> None:
        """What a path in the tree that a game sees means."""
        (called, _, rest), game = path.partition(MARK), self._game_of(path)
        if not game.is_dir():
            return  # a slash that is doubled
        tree, there, known = self.tree(game, called)
        groups: dict[str, list[int]] = {}
        for inside, name, row in tree.matching(rest):
            if row is None:
                found.files.append((f"{called}{MARK}{inside}", self._there(there[name])))
                found.homes[f"{called}{MARK}{inside}"] = joined_path(called, name)
            else:
                groups.setdefault(name, []).append(row)
        for name, rows in groups.items():
            archive = known[name]
            assert archive is not None
            picked = self.variants.picked(archive, np.array(sorted(rows), np.int64))
            if len(picked):
                found.groups.append(Group(archive, f"{called}/", picked, home=joined_path(called, name)))

    def tree(self, game: Path, called: str) -> tuple[Tree, dict[str, Path], dict[str, Archive | None]]:
        """What a game sees, with its files on disk and the archives that they are, by their paths in its folder."""
        there = dict(self._all_below(game, ""))
        known = {name: self._try(file, joined_path(called, name)) for name, file in there.items()}
        return merged(known.items(), self.order(game)), there, known

    def _all_below(self, here: Path, name: str) -> Iterator[tuple[str, Path]]:
        """Every file below a folder, by its path from there."""
        for child in self._below(here, name):
            if child.is_dir():
                yield from self._all_below(child, joined_path(name, child.name))
            else:
                yield joined_path(name, child.name), child

    def located(self, path: str) -> tuple[Path, str]:
        """The folder from which a path counts (empty for the current one), and the path from there."""
        return self._locate(path) if self._locate is not None else (Path(), path)

    def _start(self, path: str, wild: bool = True) -> tuple[Path, str, list[str]]:
        """Where a path starts on disk: the folder or file, what it is called, and the components that are left."""
        base, path = self.located(path)
        here, root, parts = _split(path, base, wild)
        while (
            not here.exists() and here.parent != here and "/" in root
        ):  # it may lead into a folder that stands for an archive
            parts.insert(0, here.name)
            here, root = here.parent, root.rpartition("/")[0] or "/"
        return here, root.rstrip("/") if root != "." else "", parts

    def one_entry(self, path: str) -> tuple[Archive, int, str]:
        """The single entry that a path means, even when it is an archive itself."""
        found = self.find(path, whole=True)
        if len(found) != 1 or not found.groups:
            what = f"{len(found)} files match" if len(found) != 1 else "a file on disk, not an entry of an archive"
            raise UsageError(
                f"{shown(path)}: {what}; give the path of one entry", f"`volvex list {quoted(path)}` to see them"
            )
        group = found.groups[0]
        row = int(group.rows[0])
        return group.archive, row, f"{group.path}/{group.archive.names[row]}"

    # walking

    def _walk(self, here: Path, name: str, parts: list[str], deep: bool, found: Found) -> None:
        if here in self._pieces:
            return
        if here.is_file():
            self._enter(here, name, parts, deep, found)
        elif here.is_dir() and not parts:
            for child in self._below(here, name):
                if deep or child.is_dir():
                    self._walk(
                        child, joined_path(name, child.name), ["**"] if deep and child.is_file() else [], deep, found
                    )
                else:
                    found.files.append((joined_path(name, child.name), self._there(child)))
        elif here.is_dir() and parts[0] == "**":
            self._walk_any(here, name, parts, deep, found)
        elif here.is_dir() and WILD.search(parts[0]):
            for child in self._below(here, name):
                if pattern_of(parts[0]).fullmatch(child.name):
                    self._walk(child, joined_path(name, child.name), parts[1:], deep, found)
        elif here.is_dir() and (here / parts[0]).exists():
            self._walk(here / parts[0], joined_path(name, parts[0]), parts[1:], deep, found)
        elif here.is_dir():  # a folder that holds the pieces of an archive can stand for it
            first = first_in(_children(here))
            archive = self._try(first, joined_path(name, first.name)) if first is not None else None
            if archive is not None and archive.cut is not None and first is not None:
                self._select(archive, joined_path(name, first.name), parts, found)

    def _below(self, here: Path, name: str) -> Iterator[Path]:
        """What is in a folder. Links that lead nowhere, or to a folder that was entered already, are reported and
        skipped."""
        for child in self._children(here, name):
            if self._originals and self._originals.get(child, child) is None:
                continue
            try:
                plain = child.is_file() or child.is_dir()
            except OSError as error:  # a path that is too long, or a file that is gone meanwhile
                self.faults.append(unreadable(shown(joined_path(name, child.name)), error))
                continue
            if not child.is_symlink():
                if plain:
                    yield child
                else:  # opening a pipe would wait for ever
                    self.faults.append(
                        NotFoundError(f"{shown(joined_path(name, child.name))} is a device or a pipe, not a file")
                    )
                continue
            try:
                real = child.resolve(strict=True)
            except (OSError, RuntimeError):
                self.faults.append(NotFoundError(f"{shown(joined_path(name, child.name))} is a broken link"))
                continue
            if real.is_dir():
                if real in self._linked or here.resolve().is_relative_to(real):
                    self.faults.append(
                        NotFoundError(
                            f"{shown(joined_path(name, child.name))} is a link to a folder that was entered already"
                        )
                    )
                    continue
                self._linked.add(real)
            yield child

    def _children(self, here: Path, name: str) -> list[Path]:
        """What is in a folder; a folder that cannot be read is reported."""
        try:
            return _children(here)
        except OSError as error:
            self.faults.append(unreadable(shown(name or "."), error))
            return []

    def _walk_any(self, here: Path, name: str, parts: list[str], deep: bool, found: Found, below: str = "") -> None:
        """`**`: any number of folders, and archives."""
        for child in self._below(here, name):
            path, called = below + child.name, joined_path(name, child.name)
            if child in self._pieces:
                continue
            if child.is_dir():
                self._walk_any(child, called, parts, deep, found, f"{path}/")
                continue
            meant = path_pattern("/".join(parts)).fullmatch(path) is not None
            if meant and parts[-1] != "**":
                self._enter(child, called, [], True, found)
            elif (archive := self._try(child, called)) is not None:
                self._select_ways(archive, called, leading_on([path], [parts]).get(0, []), found)
            elif meant:
                found.files.append((called, self._there(child)))

    def _try(self, path: Path, name: str) -> Archive | None:
        try:
            with one_of_many(shown(name)):
                return self.archive(path, name)
        except VolvexError as error:
            self.faults.append(error)
            return None

    def _enter(self, file: Path, name: str, parts: list[str], deep: bool, found: Found) -> None:
        if self._whole and not parts:
            found.files.append((name, self._there(file)))
        elif not parts or (parts == ["**"] and deep):
            archive = self.archive(file, name) if not deep else self._try(file, name)
            if archive is not None:
                self._select_all(archive, name, found)
            else:
                found.files.append((name, self._there(file)))
        else:
            archive = self.archive(file, name)
            if archive is not None:
                self._select(archive, name, parts, found)
            elif parts == ["**"]:
                found.files.append((name, self._there(file)))

    def _select_all(self, archive: Archive, name: str, found: Found, above: Above = ()) -> None:
        """Everything in an archive, and in those within it where these are entered without being named."""
        rows = self.variants.picked(archive, np.arange(len(archive)))
        found.groups.append(Group(archive, name, rows, above))
        self._select_nested(archive, name, rows, found, above)

    def _select_nested(self, archive: Archive, name: str, rows: Array, found: Found, above: Above) -> None:
        for row in rows.tolist() if self._nested and len(above) < DEEPEST else ():
            inner = self._try_inner(archive, row, name, above, asked=False)
            if inner is not None:
                self._select_all(inner, f"{name}/{archive.names[row]}", found, (*above, (archive, row)))

    def _select(self, archive: Archive, name: str, parts: list[str], found: Found) -> None:
        """What a path or pattern means in an archive, and in those within it."""
        if not WILD.search("/".join(parts)):
            self._select_named(archive, name, parts, found, ())
        else:
            self._select_ways(archive, name, [parts], found)

    def _select_ways(self, archive: Archive, name: str, ways: list[Way], found: Found) -> None:
        def enter(outer: Archive, row: int, path: str, above: Above) -> tuple[Archive, str] | None:
            inner = self._try_inner(outer, row, path, above, asked=False)
            return None if inner is None else (inner, f"{path}/{outer.names[row]}")

        for matched in within(archive, name, ways, enter):
            rows = self.variants.picked(matched.archive, matched.rows)
            if len(rows):
                found.groups.append(Group(matched.archive, matched.path, rows, matched.above))
                if all(way[-1] != "**" for way in ways):  # which led into those within already
                    self._select_nested(matched.archive, matched.path, rows, found, matched.above)

    def _select_named(self, archive: Archive, name: str, parts: list[str], found: Found, above: Above) -> None:
        """What a path without wildcards means in an archive."""
        rows = self.variants.picked(archive, entries_matching(archive, parts))
        if len(rows) == 1 and not self._whole and archive.rows_of("/".join(parts)) == rows.tolist():
            inner = self._try_inner(archive, int(rows[0]), name, above, asked=False)
            if inner is not None:  # the path of an archive within the archive means what is in it
                self._select_all(inner, f"{name}/{archive.names[rows[0]]}", found, (*above, (archive, int(rows[0]))))
                return
        if len(rows):
            found.groups.append(Group(archive, name, rows, above))
            self._select_nested(archive, name, rows, found, above)
            return
        for count in range(1, len(parts) if len(above) < DEEPEST else 0):
            for row in entries_matching(archive, parts[:count], below=False).tolist():
                inner = self._try_inner(archive, row, name, above, asked=True)
                if inner is not None:
                    path = f"{name}/{archive.names[row]}"
                    self._select_named(inner, path, parts[count:], found, (*above, (archive, row)))
                    return

    def _try_inner(self, archive: Archive, row: int, name: str, above: Above, asked: bool) -> Archive | None:
        path, depth = f"{name}/{archive.names[row]}", len(above) + 1
        try:
            if not asked and self._entered > MOST_INNER:
                raise TooLargeError(
                    f"{shown(path)}: archives nested too deep (a trap?): not opened",
                    "a longer path",
                )
            with one_of_many(shown(path)):
                inner = self.inner(archive, row, path, asked)
        except TooLargeError as error:
            if not any(isinstance(fault, TooLargeError) for fault in self.faults):  # said once: there are many
                self.faults.append(error)
            return None
        except VolvexError as error:
            self.faults.append(error)
            return None
        if inner is not None:
            self._entered += 1 if depth < 3 else depth * depth
        return inner

    # near misses

    def _missing(self, path: str) -> NotFoundError:
        """Which part of a path does not exist, and what may have been meant."""
        slashed = path.replace("\\", "/")
        if slashed != path and self._start(slashed)[0].is_file():
            return NotFoundError(f"there is no {shown(path)}: in paths, folders are parted by /", quoted(slashed))
        here, done, parts = self._start(path, wild=False)
        for index, part in enumerate(parts):
            if here.is_file():
                return self._missing_entry(here, done, "/".join(parts[index:]))
            if not (here / part).exists():
                names = [child.name for child in _children(here)] if here.is_dir() else []
                within = done or ("." if self._locate is None or self.located(path)[0] == Path() else "the game")
                what = f"not in {shown(within)}: {shown(part)}" if within != "." else f"there is no file {shown(part)}"
                return NotFoundError(what, meant(part, names, done))
            here, done = here / part, joined_path(done, part)
        if here.is_dir() and not _children(here):
            return NotFoundError(f"{shown(done or '.')} is an empty folder")
        return NotFoundError(f"nothing matches {shown(path)}")

    def _missing_entry(self, file: Path, name: str, inner: str) -> NotFoundError:
        archive = self.archive(file, name)
        if archive is None:
            return NotFoundError(
                f"{shown(name)} is not an archive of a known format", f"`volvex survey {quoted(str(file.parent))}`"
            )
        return self._missing_in(archive, name, inner)

    def _missing_in(self, archive: Archive, name: str, inner: str) -> NotFoundError:
        parts = inner.split("/")
        for count in range(len(parts) - 1, 0, -1):  # what is missing may be missing within an archive within this one
            row = archive.rows.get("/".join(parts[:count]))
            within = self.inner(archive, row, f"{name}/{archive.names[row]}") if row is not None else None
            if row is not None and within is not None:
                return self._missing_in(within, f"{name}/{archive.names[row]}", "/".join(parts[count:]))
        return missing_entry(archive.names, name, inner)


def _children(folder: Path) -> list[Path]:
    return sorted(child for child in folder.iterdir() if child.name != HIDDEN)


def _split(path: str, base: Path, wild: bool = True) -> tuple[Path, str, list[str]]:
    """The folder or file on disk that a path begins with, what it is called, and the components that are left."""
    absolute = Path(path).anchor.replace("\\", "/") if not path.startswith("/") else "/"
    parts = [part for part in path[len(absolute) :].split("/") if part not in ("", ".")]
    here, taken = Path(absolute) if absolute else base, 0
    for part in parts:
        if (WILD.search(part) and not (here / part).exists()) or not wild or not here.is_dir():
            break
        here, taken = here / part, taken + 1
    root = absolute + "/".join(parts[:taken])
    return here, root or ".", parts[taken:]
