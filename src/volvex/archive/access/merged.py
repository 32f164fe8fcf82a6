"""A game's content as the game sees it: one tree of all its archives and loose files, in which what is loaded later
wins.

`game//textures/sail.dds` is a path in that tree. The order in which a game loads is in its description (`loads`,
`[later]`, `[loose]`); without one archives count in the order of their paths, and loose files win.
"""

from __future__ import annotations

import fnmatch
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import PurePosixPath

from volvex.archive.access.match import matching
from volvex.archive.access.patterns import path_pattern
from volvex.archive.archive import Archive

MARK = "//"  # between the game's folder and a path in the tree
Row = int | None  # of an archive; None for a file of its own


@dataclass(frozen=True)
class LoadOrder:
    """The order in which a game loads: patterns of archives and of folders with loose files (`loads`), the last of
    which wins.

    Without these: `later`, patterns of archives and one that is loaded behind them, and `loose`, patterns of archives
    and the folder whose files win over theirs. `own`: patterns of files that the game writes itself, which are no part
    of its content.
    """

    loads: tuple[str, ...] = ()
    later: Mapping[str, str] = field(default_factory=dict)
    loose: Mapping[str, str] = field(default_factory=dict)
    own: tuple[str, ...] = ()

    def is_own(self, name: str) -> bool:
        """Whether the game writes a file itself."""
        return any(fnmatch.fnmatchcase(name, one) for one in self.own)

    def archive(self, name: str) -> int | None:
        """The place of an archive, the larger the later; None when the game does not load it into the tree."""
        if self.loads:
            return max((at for at, one in enumerate(self.loads, 1) if path_pattern(one).fullmatch(name)), default=None)
        return 2 if any(fnmatch.fnmatchcase(name, one) for one in self.later.values()) else 1

    def file(self, name: str) -> tuple[int, str]:
        """The place of a loose file, and its path in the tree."""
        folders = [parent.as_posix() for parent in PurePosixPath(name).parents][:-1]
        if not self.loads:
            folder = next((one for one in self.loose.values() if one in folders), "")
            return (4, name[len(folder) + 1 :]) if folder else (3, name)
        found = [
            (at, folder)
            for at, one in enumerate(self.loads, 1)
            for folder in folders
            if path_pattern(one).fullmatch(folder)
        ]
        at, folder = max(found, default=(0, ""))
        return at, name[len(folder) + 1 :] if folder else name


@dataclass
class Tree:
    """What a game sees: paths, which file of the game has each, and the entry in it."""

    paths: list[str] = field(default_factory=list)
    files: list[str] = field(default_factory=list)
    rows: list[Row] = field(default_factory=list)

    def matching(self, pattern: str) -> list[tuple[str, str, Row]]:
        """Path, file and entry of all that a path, a pattern or a folder means; of everything when it is empty."""
        parts = [part for part in pattern.split("/") if part]
        found = matching(self.paths, parts).tolist() if parts else range(len(self.paths))
        if not len(found):  # which names differ only in their case is decided by what was loaded last
            lower = [path.casefold() for path in self.paths]
            found = matching(lower, [part.casefold() for part in parts]).tolist()
        return [(self.paths[at], self.files[at], self.rows[at]) for at in found]


def merged(files: Iterable[tuple[str, Archive | None]], order: LoadOrder) -> Tree:
    """The tree of a game's files, each with the archive that it is; paths that differ only in their case are one.

    Pieces and volumes of archives are no files of the tree, nor are those that the game writes itself.
    """
    known = {name: archive for name, archive in files if not order.is_own(name)}
    pieces = {
        name.rpartition("/")[0] + "/" * ("/" in name) + other
        for name, archive in known.items()
        if archive is not None
        for other in archive.kept_beside
    }
    sources: list[tuple[int, str, Archive | None, str]] = []
    for name, archive in known.items():
        if name in pieces:
            continue
        place = order.archive(name) if archive is not None else None
        if archive is not None and place is not None:
            sources.append((place, name, archive, ""))
        else:
            at, path = order.file(name)
            sources.append((at, name, None, path))
    won: dict[str, tuple[str, str, Row]] = {}
    for _, name, archive, path in sorted(sources, key=lambda one: one[:2]):
        if archive is None:
            won[path.casefold()] = (path, name, None)
            continue
        met: set[str] = set()
        for row, inner in enumerate(archive.names):
            if row in archive.folders:
                continue
            key = inner.casefold()
            won[inner if key in met else key] = (inner, name, row)
            met.add(key)
    lines = sorted(won.values())
    return Tree([path for path, _, _ in lines], [name for _, name, _ in lines], [row for _, _, row in lines])
