"""The same content in several archives. A change goes into the archive that was edited; for a game that loads one of
several copies it can go into each that has the same content."""

from __future__ import annotations

import fnmatch
from collections.abc import Collection, Iterator, Sequence
from dataclasses import replace
from pathlib import PurePosixPath

from volvex.archive.archive import Archive
from volvex.bench.changes import FileChange
from volvex.bench.workbench import Workbench
from volvex.errors import VolvexError
from volvex.source.digest import digest_chunks

EVERYWHERE = ("*",)  # all archives
MOST_ARCHIVES = 64  # of a game, all of which are opened for it
SAMPLES = 3  # files with an extension of which one must be an archive for all of them to be looked into


def spread(bench: Workbench, found: Sequence[FileChange], only: Sequence[str] = ()) -> Iterator[FileChange]:
    """Changes, or those of other archives of the game that have the same content under the same path: `only` are
    patterns of the archives that are meant where there are several."""
    own = {change.path for change in found}
    for change in found:
        for path in places_of(bench, change.path, only, own) if change.what != "added" else [change.path]:
            yield change if path == change.path else replace(change, path=path, of=change.path)


def places_of(bench: Workbench, path: str, only: Sequence[str] = (), own: Collection[str] = ()) -> list[str]:
    """Where a change of an entry goes: its own path, and those of the same content in other archives, but for paths in
    `own`, which have changes of their own."""
    name, inner = bench.home(path)
    if not only or not inner or bench.file_of(name) != name:
        return [path]
    others = [f"{other}/{inner}" for other in _with_same(bench, path, name, inner)]
    found = [path, *(other for other in others if other not in own)]
    wanted = [text for text in found if any(fnmatch.fnmatchcase(bench.file_of(text), pattern) for pattern in only)]
    return wanted or [path]


def same_content(bench: Workbench, path: str) -> list[str]:
    """The paths of the same content in other archives of the game; not looked for in a game of very many archives."""
    name, inner = bench.home(path)
    if not inner or bench.file_of(name) != name or len(bench.fingerprints) > MOST_ARCHIVES:
        return []
    return [f"{other}/{inner}" for other in _with_same(bench, path, name, inner)]


def _with_same(bench: Workbench, path: str, name: str, inner: str) -> list[str]:
    """The other archives of the game with this content under this path."""
    row, digest = bench.row(path), ""
    if row is None:
        return []
    found = []
    for other, archive in _archives(bench):
        place = bench.rows_in(other).get(inner) if other != name else None
        if place is None or archive.entries.size[place] != bench.require_archive(name).entries.size[row]:
            continue
        digest = digest or digest_chunks(bench.original_content(path))[0]
        try:
            same = digest_chunks(archive.chunks(place))[0] == digest
        except VolvexError:  # damaged or locked: not the same
            continue
        if same:
            found.append(other)
    return found


def _archives(bench: Workbench) -> Iterator[tuple[str, Archive]]:
    """The archives of a game, opened once. Of many files with one extension a few are tried first."""
    tried: dict[str, list[bool]] = {}
    for name, _ in bench.game.files():
        seen = tried.setdefault(PurePosixPath(name).suffix.lower(), [])
        if len(seen) >= SAMPLES and not any(seen):
            continue
        try:
            with bench.library.keys.quiet():
                archive = bench.archive(name)
        except VolvexError:
            archive = None
        seen.append(archive is not None)
        if archive is not None:
            yield name, archive
