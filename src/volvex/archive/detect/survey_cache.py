"""What a survey found out, remembered by path, size and time; it can always be made again."""

from __future__ import annotations

import contextlib
import json
import sqlite3
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from volvex.source.sqlite_cache import SqliteCache

FORMAT = 2
_COLUMNS = "folder text, path text, size integer, time integer, by text, told text, primary key (folder, path)"

Stamp = tuple[int, int]  # size, time of the last change in nanoseconds


def _is_text(path: str) -> bool:
    """Whether a path is text; what is not (a name on disk in an odd encoding) is not remembered."""
    try:
        path.encode()
    except UnicodeEncodeError:
        return False
    return True


class Memory:
    """A database in a file. What cannot be read or written is as if it were not there: a survey then takes longer."""

    def __init__(self, file: Path | None) -> None:
        self._file = file
        self._cache = SqliteCache(file, "files", _COLUMNS, FORMAT) if file is not None else None

    def known(self, folder: Path, by: str) -> dict[str, tuple[Stamp, str]]:
        """What is known of the files of a folder, found out with the same means (`by`): stamps and records."""
        if self._cache is None or self._file is None or not self._file.is_file() or not _is_text(str(folder)):
            return {}
        base = self._cache.open()
        if base is None:
            return {}
        try:
            with contextlib.closing(base):
                rows = base.execute(
                    "select path, size, time, told from files where folder = ? and by = ?", (str(folder), by)
                )
                return {path: ((size, time), told) for path, size, time, told in rows}
        except sqlite3.Error:
            self._cache.discard()
            return {}

    def keep(
        self, folder: Path, by: str, found: Mapping[str, tuple[Stamp, Mapping[str, Any]]], gone: Iterable[str]
    ) -> None:
        """Remember records of files, and forget those of files that are gone."""
        base = self._cache.open() if self._cache is not None else None
        if base is None:
            return
        found = {path: one for path, one in found.items() if _is_text(f"{folder}{path}")}
        rows = [(str(folder), path, *stamp, by, json.dumps(record)) for path, (stamp, record) in found.items()]
        try:
            with contextlib.closing(base), base:
                base.executemany(
                    "delete from files where folder = ? and path = ?",
                    [(str(folder), path) for path in gone if _is_text(path)],
                )
                base.executemany("insert or replace into files values (?, ?, ?, ?, ?, ?)", rows)
        except sqlite3.Error:
            return
