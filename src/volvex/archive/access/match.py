"""Which entries a path or pattern means: in an archive, in those within it, and which of several variants."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

import numpy as np

from volvex.archive.access.nested import DEEPEST
from volvex.archive.access.patterns import WILD, regex_of
from volvex.archive.archive import Archive, identity
from volvex.archive.safe_names import shown
from volvex.errors import NotFoundError
from volvex.layout.columns import Array
from volvex.layout.name_hash import UNNAMED

Above = tuple[tuple[Archive, int], ...]
Way = list[str]  # what is left of a path or pattern, in components


@dataclass(frozen=True)
class Matched:
    """Entries that a pattern means in an archive, or in one within it."""

    archive: Archive
    path: str
    rows: Array
    above: Above = ()


Enter = Callable[[Archive, int, str, Above], tuple[Archive, str] | None]


def within(
    archive: Archive, path: str, ways: list[Way], enter: Enter, above: Above = (), whole: bool = False
) -> Iterator[Matched]:
    """What a pattern means in an archive and in those within it: `**` leads through these as through folders.

    `ways` is what is left of the pattern, in each way in which it can have led here. `enter` opens an entry as an
    archive, and says what that is called; None when it is none. With `whole`, an archive that is meant itself is not
    entered as well.
    """
    found = [entries_matching(archive, way) for way in ways]
    rows = np.unique(np.concatenate(found)) if found else np.arange(0)
    if len(rows):
        yield Matched(archive, path, rows, above)
    if len(above) >= DEEPEST:
        return
    meant = set(rows.tolist()) if whole else set()
    for row, left in sorted(leading_on(archive.names, ways).items()):
        inner = enter(archive, row, path, above) if row not in meant else None
        if inner is not None:
            yield from within(*inner, left, enter, (*above, (archive, row)), whole)


def leading_on(names: list[str], ways: Iterable[Way]) -> dict[int, list[Way]]:
    """The names through which a pattern may lead on, and what is left of it behind each."""
    found: dict[int, list[Way]] = {}
    for way in ways:
        for count in range(len(way)):
            any_depth = way[count] == "**"
            if count == 0 and not any_depth:
                continue
            rows = matching(names, way[:count], below=any_depth) if count else np.arange(len(names))
            for row in rows.tolist():
                left = found.setdefault(row, [])
                if way[count:] not in left:
                    left.append(way[count:])
    return found


class Variants:
    """Which of several variants of a path are meant: one by its name, or all."""

    def __init__(self, wanted: str) -> None:
        self.wanted = "" if wanted == "all" else wanted
        self._met: set[str] = set()

    def picked(self, archive: Archive, rows: Array) -> Array:
        """Those rows that are the wanted variant, or whose paths have none."""
        lines = archive.variants
        if lines is None or not self.wanted:
            return rows
        self._met |= {lines[row] for row in rows.tolist()}
        every, paths = archive.rows_by_path, archive.paths
        kept = [
            row
            for row in rows.tolist()
            if lines[row] == self.wanted or not any(lines[number] for number in every[paths[row]])
        ]
        return np.array(kept, np.int64)

    def check(self, path: str) -> None:
        """NotFoundError when none of what was met has the wanted variant."""
        if self.wanted and self.wanted not in self._met:
            known = ", ".join(sorted(self._met - {""}))
            raise NotFoundError(
                f"{shown(path)} has no variant {shown(self.wanted)}",
                f"one of {shown(known)}" if known else "leaving --variant out",
            )


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
        match = re.compile(regex_of(parts, below)).fullmatch
        rows = [row for row, name in enumerate(names) if match(name)]
        if not rows and "[" in wanted:  # a bracket that is part of a name
            rows = [row for row, name in enumerate(names) if name == wanted]
    return np.array(rows, dtype=np.int64)
