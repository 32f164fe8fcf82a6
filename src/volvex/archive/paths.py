"""Paths that walk through archives as through folders: `game/data/*.kwp/rules/*.xml`.

A path is a row of components with forward slashes. `*`, `?` and `[...]` match within one component, `**`
matches any number of them. A path without wildcards that ends at a folder, on disk or in an archive,
means everything below it.
"""

from __future__ import annotations

import contextlib
import difflib
import functools
import os
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from volvex.archive.archive import Archive, identity
from volvex.archive.names import shown
from volvex.archive.nesting import DEEPEST, open_entry
from volvex.archive.opening import open_archive
from volvex.archive.pieces import beside, pieces_of
from volvex.errors import NotFoundError, TooLargeError, VolvexError
from volvex.layout import Layout, Library
from volvex.layout.columns import Array
from volvex.layout.keying import UNNAMED

WILD = re.compile(r"[*?\[]")
MOST_INNER = 50_000  # archives within archives that are entered without being named
DESCRIPTION = "bench.json"  # the file that makes a folder a bench
LAYOUTS = "layouts"  # the folder with a bench's own layouts; what lies in `files` is content, and never steers anything
HIDDEN = ".volvex"  # the folder in which installs are kept; never part of a game's content


Above = tuple[tuple[Archive, int], ...]


@dataclass(frozen=True)
class Group:
    """Entries of one archive: rows in the directory's order."""

    archive: Archive
    path: str
    rows: Array
    above: Above = ()  # the entries through which it is reached, the outermost first

    def paths(self) -> list[str]:
        """The entries' whole paths. Not safe to print: see `shown`."""
        names = self.archive.names
        return [f"{self.path}/{names[row]}" for row in self.rows.tolist()]


@dataclass(frozen=True)
class Found:
    """What a path means: groups of entries, and plain files on disk."""

    groups: list[Group]
    files: list[tuple[str, Path]]

    def __len__(self) -> int:
        return sum(len(group.rows) for group in self.groups) + len(self.files)


class Walker:
    """Finds what paths mean; keeps the archives that it opened until it is closed."""

    def __init__(self, library: Library, layout: Layout | None = None, variant: str = "") -> None:
        self.library, self.layout = library, layout
        self.variants = Variants(variant)
        self._open: dict[Path, Archive | None] = {}
        self._inner: dict[tuple[int, int], Archive | None] = {}  # archives within archives: (archive, row)
        self._whole = False  # whether an archive within an archive is taken as the entry that it is
        self._nested = False  # whether archives within archives are entered without being named
        self._linked: set[Path] = set()  # folders that links led to
        self._entered = 0  # archives within archives that were entered without being named; deep ones count more
        self._pieces: set[Path] = set()  # pieces and volumes of archives that were opened
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
            found = self._open[path] = open_archive(path, self.library, name, self.layout)
            if found is not None:
                self._pieces |= {path.with_name(name) for name in found.kept_beside}
        return self._open[path]

    def inner(self, archive: Archive, row: int, name: str, asked: bool = True) -> Archive | None:
        """The archive that an entry holds; None when it holds none."""
        key = (id(archive), row)
        if key not in self._inner or (asked and self._inner[key] is None):
            self._inner[key] = open_entry(archive, row, self.library, name, asked)
        return self._inner[key]

    def find(self, path: str, deep: bool = False, nested: bool = False) -> Found:
        """What a path means; NotFoundError with near misses when it means nothing.

        With `deep`, archives below a folder are entered; otherwise they count as files. With `nested`, archives
        within archives are entered too; otherwise only where the path leads through them.
        """
        self._nested = nested
        self._linked.clear()
        path = path.replace("\\", "/") if os.name == "nt" else path
        root, parts = _split(path)
        found, here = Found([], []), Path(root)
        while (
            not here.exists() and here.parent != here and "/" in root
        ):  # it may lead into a folder that stands for an archive
            parts.insert(0, here.name)
            here, root = here.parent, root.rpartition("/")[0] or "/"
        self._walk(here, root.rstrip("/") if root != "." else "", parts, deep, found)
        self.variants.check(path)
        if not len(found):
            if self.faults:
                raise self.faults[0]
            raise self._missing(path)
        return found

    def one_entry(self, path: str) -> tuple[Archive, int, str]:
        """The single entry that a path means, even when it is an archive itself."""
        self._whole = True
        try:
            found = self.find(path)
        finally:
            self._whole = False
        if len(found) != 1 or not found.groups:
            what = f"{len(found)} files" if len(found) != 1 else "a file on disk, not an entry of an archive"
            raise NotFoundError(
                f"{shown(path)} means {what}, this needs one entry", f"`volvex list {shown(path)}` to see them"
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
                    self._walk(child, _join(name, child.name), ["**"] if deep and child.is_file() else [], deep, found)
                else:
                    found.files.append((_join(name, child.name), child))
        elif here.is_dir() and parts[0] == "**":
            self._walk_any(here, name, parts, deep, found)
        elif here.is_dir() and WILD.search(parts[0]):
            for child in self._below(here, name):
                if pattern_of(parts[0]).fullmatch(child.name):
                    self._walk(child, _join(name, child.name), parts[1:], deep, found)
        elif here.is_dir() and (here / parts[0]).exists():
            self._walk(here / parts[0], _join(name, parts[0]), parts[1:], deep, found)
        elif here.is_dir():  # a folder that holds the pieces of an archive can stand for it
            first = _first_piece(here)
            archive = self._try(first, _join(name, first.name)) if first is not None else None
            if archive is not None and archive.cut is not None and first is not None:
                self._select(archive, _join(name, first.name), parts, found)

    def _below(self, here: Path, name: str) -> Iterator[Path]:
        """What is in a folder. Links that lead nowhere, or to a folder that was entered already, are reported and skipped."""
        for child in _children(here):
            if not child.is_symlink():
                yield child
                continue
            try:
                real = child.resolve(strict=True)
            except (OSError, RuntimeError):
                self.faults.append(NotFoundError(f"{shown(_join(name, child.name))} is a link that leads nowhere"))
                continue
            if real.is_dir():
                if real in self._linked or here.resolve().is_relative_to(real):
                    self.faults.append(
                        NotFoundError(
                            f"{shown(_join(name, child.name))} is a link to a folder that was entered already"
                        )
                    )
                    continue
                self._linked.add(real)
            yield child

    def _walk_any(self, here: Path, name: str, parts: list[str], deep: bool, found: Found) -> None:
        """`**`: any number of folders, and archives."""
        for child in self._below(here, name):
            if child.is_dir():
                self._walk(child, _join(name, child.name), parts, deep, found)
            elif (archive := self._try(child, _join(name, child.name))) is not None:
                self._select(archive, _join(name, child.name), parts, found)
            elif pattern_of(parts[1] if len(parts) > 1 else "*").fullmatch(child.name) and len(parts) < 3:
                found.files.append((_join(name, child.name), child))

    def _try(self, path: Path, name: str) -> Archive | None:
        try:
            return self.archive(path, name)
        except VolvexError as error:
            self.faults.append(error)
            return None

    def _enter(self, file: Path, name: str, parts: list[str], deep: bool, found: Found) -> None:
        if not parts or parts == ["**"]:
            archive = self.archive(file, name) if not deep else self._try(file, name)
            if archive is not None:
                self._select(archive, name, ["**"], found)
            else:
                found.files.append((name, file))
            return
        archive = self.archive(file, name)
        if archive is not None:
            self._select(archive, name, parts, found)

    def _select(self, archive: Archive, name: str, parts: list[str], found: Found, above: Above = ()) -> None:
        rows = self.variants.picked(
            archive, entries_matching(archive, parts) if parts != ["**"] else np.arange(len(archive))
        )
        if (
            len(rows) == 1
            and not WILD.search("/".join(parts))
            and self._stands_for_inner(archive, int(rows[0]), name, parts, found, above)
        ):
            return
        if not len(rows) and parts != ["**"]:
            self._through(archive, name, parts, found, above)
            return
        found.groups.append(Group(archive, name, rows, above))
        if self._nested and len(above) < DEEPEST:
            for row in rows.tolist():
                self._try_inner(archive, row, name, ["**"], found, above, asked=False)

    def _stands_for_inner(
        self, archive: Archive, row: int, name: str, parts: list[str], found: Found, above: Above
    ) -> bool:
        """Whether a path is that of an archive within the archive, which then means what is in it."""
        if self._whole or archive.names[row] != "/".join(parts):
            return False
        return self._try_inner(archive, row, name, ["**"], found, above, asked=False)

    def _through(self, archive: Archive, name: str, parts: list[str], found: Found, above: Above) -> None:
        """A path that leads through an archive within the archive."""
        for count in range(1, len(parts) if len(above) < DEEPEST else 0):
            rows = entries_matching(archive, parts[:count], below=False)
            named = not WILD.search(
                "/".join(parts[:count])
            )  # a wildcard meets many, and passes by what is locked or damaged
            entered = [
                self._try_inner(archive, row, name, parts[count:], found, above, asked=named) for row in rows.tolist()
            ]
            if any(entered):
                return

    def _try_inner(
        self, archive: Archive, row: int, name: str, parts: list[str], found: Found, above: Above, asked: bool
    ) -> bool:
        path, depth = f"{name}/{archive.names[row]}", len(above) + 1
        try:
            if not asked and self._entered > MOST_INNER:
                raise TooLargeError(
                    f"{shown(path)}: too many archives within archives (a trap?): these are not entered",
                    "a longer path",
                )
            inner = self.inner(archive, row, path, asked)
        except TooLargeError as error:
            if not any(isinstance(one, TooLargeError) for one in self.faults):  # said once: there are many
                self.faults.append(error)
            return False
        except VolvexError as error:
            self.faults.append(error)
            return False
        if inner is None:
            return False
        self._entered += 1 if depth < 3 else depth * depth
        self._select(inner, path, parts, found, (*above, (archive, row)))
        return True

    # near misses

    def _missing(self, path: str) -> NotFoundError:
        """Which part of a path does not exist, and what may have been meant."""
        root, parts = _split(path, wild=False)
        here, done = Path(root), root if root != "." else ""
        for index, part in enumerate(parts):
            if here.is_file():
                return self._missing_entry(here, done, "/".join(parts[index:]))
            if not (here / part).exists():
                names = [child.name for child in _children(here)] if here.is_dir() else []
                return NotFoundError(f"there is no {shown(part)} in {shown(done or '.')}", _meant(part, names, done))
            here, done = here / part, _join(done, part)
        return NotFoundError(f"nothing matches {shown(path)}")

    def _missing_entry(self, file: Path, name: str, inner: str) -> NotFoundError:
        archive = self.archive(file, name)
        if archive is None:
            return NotFoundError(
                f"{shown(name)} is not an archive that any layout knows", f"`volvex survey {shown(str(file.parent))}`"
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


def missing_entry(names: list[str], archive: str, inner: str) -> NotFoundError:
    """The error for a path that means nothing within an archive, with what may have been meant."""
    if WILD.search(inner):
        return NotFoundError(f"nothing in {shown(archive)} matches {shown(inner)}")
    return NotFoundError(f"there is no {shown(inner)} in {shown(archive)}", _meant(inner, _near(inner, names), archive))


def _first_piece(folder: Path) -> Path | None:
    """The first of the pieces in a folder that holds nothing else."""
    children = _children(folder)
    first = next((child for child in children if child.is_file() and pieces_of(child.name, child, beside(child))), None)
    return first if first is not None and len(pieces_of(first.name, first, beside(first))) == len(children) else None


def _children(folder: Path) -> list[Path]:
    with contextlib.suppress(PermissionError):
        return sorted(child for child in folder.iterdir() if child.name != HIDDEN)
    return []


def _join(name: str, part: str) -> str:
    return f"{name.rstrip('/')}/{part}" if name else part


def _split(path: str, wild: bool = True) -> tuple[str, list[str]]:
    """The folder or file on disk that a path begins with, and the components that are left."""
    absolute = Path(path).anchor.replace("\\", "/") if not path.startswith("/") else "/"
    parts = [part for part in path[len(absolute) :].split("/") if part not in ("", ".")]
    here, taken = Path(absolute or "."), 0
    for part in parts:
        if (WILD.search(part) and not (here / part).exists()) or not wild or not here.is_dir():
            break
        here, taken = here / part, taken + 1
    root = absolute + "/".join(parts[:taken])
    return root or ".", parts[taken:]


class Variants:
    """Which of several variants of a path are meant: one by its name, or all."""

    def __init__(self, wanted: str) -> None:
        self.wanted = "" if wanted == "all" else wanted
        self._met: set[str] = set()

    def picked(self, archive: Archive, rows: Array) -> Array:
        """Those rows that are the wanted variant, or whose paths have none."""
        told = archive.variants
        if told is None or not self.wanted:
            return rows
        self._met |= {told[row] for row in rows.tolist()}
        every, paths = archive.rows_by_path, archive.paths
        kept = [
            row for row in rows.tolist() if told[row] == self.wanted or not any(told[one] for one in every[paths[row]])
        ]
        return np.array(kept, np.int64)

    def check(self, path: str) -> None:
        """NotFoundError when none of what was met has the wanted variant."""
        if self.wanted and self.wanted not in self._met:
            known = ", ".join(sorted(self._met - {""}))
            raise NotFoundError(f"{shown(path)} has no variant {shown(self.wanted)}", f"one of {shown(known)}" if known else "leaving --variant out")  # fmt: skip


def entries_matching(archive: Archive, parts: list[str], below: bool = True) -> Array:
    """The entries that a path means: by their names, one path meaning all its variants; or by the key of the path."""
    rows = matching(archive.names, parts, below)
    if archive.variants is not None:
        rows = np.union1d(rows, matching(archive.paths, parts, below))
    if not len(rows) and not WILD.search("/".join(parts)):
        rows = np.array(archive.rows_of("/".join(parts)), np.int64)
    return rows


def matching(names: list[str], parts: list[str], below: bool = True) -> Array:
    """The rows whose path matches components that may hold wildcards, or (with `below`) lies below such a folder."""
    wanted = "/".join(parts)
    if not WILD.search(wanted):
        folder = wanted + "/"
        rows = [row for row, name in enumerate(names) if name == wanted or (below and name.startswith(folder))]
        if not rows and wanted.startswith(
            f"{UNNAMED}/"
        ):  # an entry without a name goes by its key, whatever its ending
            rows = [row for row, name in enumerate(names) if identity(name) == identity(wanted)]
    else:
        match = re.compile(_regex(parts, below)).fullmatch
        rows = [row for row, name in enumerate(names) if match(name)]
        if not rows and "[" in wanted:  # a bracket that is part of a name
            rows = [row for row, name in enumerate(names) if name == wanted]
    return np.array(rows, dtype=np.int64)


def _regex(parts: list[str], below: bool) -> str:
    """An expression for components with wildcards. It takes the first way that fits at each wildcard but the last, which is enough,
    and never tries all of them."""
    runs: list[list[str]] = [[]]  # between one `**` and the next
    for part in parts:
        if part == "**":
            runs.append([])
        else:
            runs[-1].append(_component(part))
    out = "".join(f"{part}/" for part in runs[0]) if len(runs) > 1 else "/".join(runs[0])
    for run in runs[1:-1]:
        if run:
            out += f"(?>(?:[^/]*+/)*?{''.join(f'{part}/' for part in run)})"
    if len(runs) > 1:
        out += f"(?:[^/]*+/)*{'/'.join(runs[-1])}" if runs[-1] else ".*"
    rest = "(?:/.*)?" if below and parts[-1] != "**" else ""
    return f"(?s:{out}{rest})"


def _component(part: str) -> str:
    """One component as an expression that does not pass a slash."""
    stretches = [""]  # between one `*` and the next
    for piece in re.split(r"(\*+|\?|\[!?\]?[^\]/]*\])", part):
        if piece.startswith("*"):
            stretches.append("")
        elif piece == "?":
            stretches[-1] += "[^/]"
        elif piece.startswith("[") and piece.endswith("]"):
            stretches[-1] += _bracket(piece)
        else:
            stretches[-1] += re.escape(piece)
    first, *rest = stretches
    if not rest:
        return first
    return first + "".join(f"(?>[^/]*?{one})" for one in rest[:-1]) + f"[^/]*{rest[-1]}"


def _bracket(piece: str) -> str:
    """`[a-z]` or `[!a-z]`; what is no sound choice of characters stands for itself."""
    inside, negated = piece[1:-1], piece.startswith("[!")
    plain = re.sub(r"([\\^&~|\[\]])", r"\\\1", inside[1:] if negated else inside)
    choice = f"[^{plain}/]" if negated else f"[{plain}]"
    try:
        re.compile(choice)
    except re.error:
        return re.escape(piece)
    return choice


@functools.lru_cache(256)
def pattern_of(part: str) -> re.Pattern[str]:
    """A component with wildcards, for whole names on disk."""
    return re.compile(f"(?s:{_component(part)})")


def _near(inner: str, names: list[str]) -> list[str]:
    """Names worth comparing with a misspelt one, few enough to compare quickly."""
    folded, last = inner.casefold(), inner.rpartition("/")[2].casefold()
    same = [name for name in names if name.casefold() == folded]
    if same:
        return same
    ends = [name for name in names if name.casefold().endswith(last)][:50]
    start = [name for name in names if name.startswith(inner.partition("/")[0])]
    return [*ends, *(start or names)[:2000]]


def _meant(part: str, names: list[str], within: str) -> str:
    for name in names:
        if name.casefold() == part.casefold():
            return f"{shown(_join(within, name))}"
    near = difflib.get_close_matches(part, names, 1, 0.6) or [name for name in names if name.endswith("/" + part)][:1]
    return shown(_join(within, near[0])) if near else f"`volvex list {shown(within or '.')}` to see what there is"
