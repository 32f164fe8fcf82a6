"""Pictures found by what they are: by size, and by what they look like. What was seen of each is remembered."""

from __future__ import annotations

import argparse
import functools
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from volvex.archive import Walker
from volvex.archive.access.patterns import path_pattern
from volvex.archive.detect import filetypes
from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.faults import note_faults
from volvex.command.ui.reader import content_at, finds_beside
from volvex.command.ui.table import Column, count, print_table
from volvex.errors import Status, UsageError, VolvexError
from volvex.source import Beside, FileSource, Source
from volvex.source.sqlite_cache import SqliteCache

if TYPE_CHECKING:
    from volvex.asset.picture.open import OpenedPicture

VERSION = 1
NONE = b""  # of what is no picture


@dataclass(frozen=True)
class Seen:
    """What is remembered of a picture: its size, what it is, and a small copy."""

    path: str
    width: int
    height: int
    about: str
    copy: bytes


def wants_pictures(options: argparse.Namespace) -> bool:
    """Whether a search is for pictures."""
    return bool(options.kind or options.larger or options.like)


def find_pictures(options: argparse.Namespace, walker: Walker, context: Context) -> int:
    """Print the pictures that fit all conditions, the most similar first."""
    from volvex.asset.picture.likeness import ALIKE, likeness, thumbnail

    if options.kind not in (None, "picture"):
        raise UsageError(f"there is no kind {shown(options.kind)} to search for", "--kind picture")
    least = _size(options.larger) if options.larger else (0, 0)
    wanted = thumbnail(_asked(options.like, walker, context).picture) if options.like else b""
    faults: list[VolvexError] = []
    found = [
        one for one in _seen(options.path, walker, context, faults) if one.width >= least[0] and one.height >= least[1]
    ]
    if options.name:
        match = path_pattern(options.name).fullmatch
        found = [one for one in found if match(one.path.rpartition("/")[2]) or match(one.path)]
    alike = [""] * len(found)
    if wanted:
        scores = likeness(wanted, [one.copy for one in found]).tolist()
        order = sorted((at for at in range(len(found)) if scores[at] >= ALIKE), key=lambda at: -scores[at])
        found, alike = [found[at] for at in order], [f"{100 * scores[at]:.0f}%" for at in order]
    if options.json:
        context.json({"path": one.path, "width": one.width, "height": one.height, "type": one.about} for one in found)
    else:
        columns = [Column("alike", alike, right=True)] if wanted else []
        columns.append(Column("size", [f"{one.width} x {one.height}" for one in found], right=True))
        columns += [Column("type", [one.about for one in found]), Column("path", [shown(one.path) for one in found])]
        print_table(context, columns)
        context.print(context.paint(count(len(found), "picture"), "dim"))
    status = note_faults([*faults, *walker.faults], context, "not searched: ")
    return status or (Status.OK if found else Status.DIFFERS)


def _size(text: str) -> tuple[int, int]:
    match = re.fullmatch(r"([0-9]+)x([0-9]+)", text.lower())
    if match is None:
        raise UsageError(f"{text!r} is no size", "width and height: --larger 512x512")
    return int(match[1]), int(match[2])


def _asked(path: str, walker: Walker, context: Context) -> OpenedPicture:
    from volvex.asset.picture.open import require_picture

    if Path(path).is_file():
        with FileSource(Path(path)) as source:
            return require_picture(source, walker.library)
    content = content_at(path, walker, context)
    try:
        return require_picture(content.source, walker.library)
    finally:
        content.source.close()


class _Memory:
    """What was seen of files and entries, by what they were then."""

    def __init__(self, context: Context) -> None:
        self._base = SqliteCache(context.cache / "pictures.sqlite", "seen", COLUMNS, VERSION).open()
        self._own: dict[str, dict[str, tuple[int, int, str, bytes]]] = {}

    def of(self, file: Path) -> tuple[str, dict[str, tuple[int, int, str, bytes]]]:
        """The key of a file as it is now, and what is known of what it holds."""
        try:
            facts = file.stat()
        except OSError:  # reached in another way, as on a bench: nothing is remembered of it
            return "", {}
        key = f"{file.resolve()} {facts.st_size} {facts.st_mtime_ns}"
        if key not in self._own:
            rows = (
                self._base.execute("SELECT name, width, height, about, copy FROM seen WHERE file = ?", (key,))
                if self._base
                else ()
            )
            self._own[key] = {name: (width, height, about, copy) for name, width, height, about, copy in rows}
        return key, self._own[key]

    def keep(self, key: str, name: str, seen: Seen | None) -> None:
        """Remember what something is."""
        if not key:
            return
        row = (seen.width, seen.height, seen.about, seen.copy) if seen is not None else (0, 0, "", NONE)
        self._own[key][name] = row
        if self._base is not None:
            self._base.execute("INSERT OR REPLACE INTO seen VALUES (?, ?, ?, ?, ?, ?)", (key, name, *row))

    def close(self) -> None:
        """Write it."""
        if self._base is not None:
            self._base.commit()
            self._base.close()


COLUMNS = "file text, name text, width int, height int, about text, copy blob, primary key (file, name)"


def _seen(paths: list[str], walker: Walker, context: Context, faults: list[VolvexError]) -> Iterator[Seen]:
    """All pictures of some paths, to any depth."""
    from volvex.archive.access.nested import entry_source

    memory = _Memory(context)
    try:
        for path in paths:
            found = walker.find(path, deep=True, nested=True)
            for name, file in found.files:
                key, known = memory.of(file)
                make = functools.partial(FileSource, file, name)
                beside = finds_beside(name, walker, context)
                yield from _one(memory, key, known, "", name, make, beside, walker, faults)
            for group in found.groups:
                key, known = memory.of(context.cwd / group.file)
                inside = group.path[len(group.file) :]
                for row in group.rows.tolist():
                    if row in group.archive.folders:
                        continue
                    name = f"{group.path}/{group.archive.names[row]}"
                    yield from _one(
                        memory,
                        key,
                        known,
                        f"{inside}/{row}",
                        name,
                        functools.partial(entry_source, group.archive, row, name),
                        finds_beside(name, walker, context),
                        walker,
                        faults,
                    )
    finally:
        memory.close()


def _one(
    memory: _Memory,
    key: str,
    known: dict[str, tuple[int, int, str, bytes]],
    inner: str,
    path: str,
    source: Callable[[], Source],
    beside: Beside,
    walker: Walker,
    faults: list[VolvexError],
) -> Iterator[Seen]:
    """What a file or entry is, when it is a picture: remembered, or looked at now."""
    if inner in known:
        width, height, about, copy = known[inner]
        if copy:
            yield Seen(path, width, height, about, copy)
        return
    try:
        with source() as opened:
            opened.beside = beside
            seen, whole = _looked(opened, path, walker)
    except VolvexError as error:
        faults.append(error)
        return
    memory.keep(key if whole else "", inner, seen)
    if seen is not None:
        yield seen


def _looked(source: Source, path: str, walker: Walker) -> tuple[Seen | None, bool]:
    """What a file or entry is, when it is a picture; and whether all of it is in that file."""
    from volvex.asset.picture.likeness import thumbnail
    from volvex.asset.picture.open import may_be_picture, open_picture

    if not may_be_picture(filetypes.kind_by_content(source.peek(0, filetypes.HEAD))):
        return None, True
    opened = open_picture(source, walker.library)
    if opened is None:
        return None, True
    picture = opened.picture
    seen = Seen(path, picture.width, picture.height, f"{picture.form} {picture.format}", thumbnail(picture))
    return seen, not opened.beside
