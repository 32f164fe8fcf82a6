"""What was read from files on a hunt, remembered batch by batch, so that a hunt goes on where it was interrupted."""

from __future__ import annotations

import contextlib
import json
import sqlite3
import threading
import zlib
from pathlib import Path

from volvex.names.words import Word
from volvex.source.sqlite_cache import SqliteCache

FORMAT = 2
_COLUMNS = "place text, stamp text, number integer, words blob, primary key (place, stamp, number)"

Read = list[tuple[int, Word]]  # the row in which each word was met


class ReadMemory:
    """A database in a file, used by several threads. What cannot be read or written is read from the game again."""

    def __init__(self, file: Path | None) -> None:
        self._lock = threading.Lock()
        self._base = None if file is None else SqliteCache(file, "read", _COLUMNS, FORMAT).open(threads=True)

    def __enter__(self) -> ReadMemory:
        return self

    def __exit__(self, *_: object) -> None:
        if self._base is not None:
            self._base.close()

    def known(self, place: str, stamp: str, number: int) -> Read | None:
        """What was read from a batch of an archive, or a file, that bears that stamp; None when it was not."""
        if self._base is None:
            return None
        try:
            with self._lock:
                found = self._base.execute(
                    "select words from read where place = ? and stamp = ? and number = ?", (place, stamp, number)
                ).fetchone()
            return (
                None
                if found is None
                else [(row, Word(text, path)) for row, text, path in json.loads(zlib.decompress(found[0]))]
            )
        except (sqlite3.Error, ValueError, zlib.error):
            return None

    def keep(self, path: str, stamp: str, number: int, words: Read) -> None:
        """Remember what was read from a batch, and forget what earlier versions held."""
        if self._base is None:
            return
        data = zlib.compress(json.dumps([(row, word.text, word.path) for row, word in words]).encode(), 1)
        with contextlib.suppress(sqlite3.Error), self._lock:
            self._base.execute("delete from read where place = ? and stamp <> ?", (path, stamp))
            self._base.execute("insert or replace into read values (?, ?, ?, ?)", (path, stamp, number, data))
            self._base.commit()
