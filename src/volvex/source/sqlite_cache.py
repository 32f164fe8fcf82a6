"""A cache in an SQLite file: everything in it can be computed again, so any fault in it only costs time."""

from __future__ import annotations

import contextlib
import sqlite3
from pathlib import Path


class SqliteCache:
    """Opens one table of a file, of one version; a file that is damaged, or of another version, is started again."""

    def __init__(self, file: Path, table: str, columns: str, version: int) -> None:
        """`columns` is what stands in the brackets of `create table`; `version` changes when their meaning does."""
        self._file, self._table, self._columns, self._version = file, table, columns, version

    def open(self, threads: bool = False) -> sqlite3.Connection | None:
        """The database, for several threads if asked for; None when the folder cannot be written."""
        for _ in range(2):
            try:
                return self._opened(threads)
            except (sqlite3.Error, OSError):
                self.discard()
        return None

    def _opened(self, threads: bool) -> sqlite3.Connection:
        self._file.parent.mkdir(parents=True, exist_ok=True)
        base = sqlite3.connect(self._file, timeout=10, check_same_thread=not threads)
        try:
            if base.execute("pragma user_version").fetchone()[0] != self._version:
                base.execute(f"drop table if exists {self._table}")
                base.execute(f"pragma user_version = {self._version}")
            base.execute(f"create table if not exists {self._table} ({self._columns}) without rowid")
            base.commit()
        except BaseException:
            base.close()
            raise
        return base

    def discard(self) -> None:
        """Remove the file."""
        with contextlib.suppress(OSError):
            self._file.unlink()
