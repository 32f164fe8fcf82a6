"""A temporary file that grows: bytes that are made before they have their place."""

from __future__ import annotations

import itertools
import tempfile
import threading
from collections.abc import Iterable, Iterator
from pathlib import Path

from volvex.source.disk import PART
from volvex.source.source import Source

GATHERED = 1 << 24  # bytes of one stretch that are held before they go to the file


class Spool(Source):
    """Stretches of bytes, one behind the other. Gone when it is closed or forgotten; safe to fill from several threads.

    Where the system allows it, the file has no name from the start, so that not even a killed process leaves it.
    """

    name = "new content"

    def __init__(self, folder: Path | None = None) -> None:
        self._file = tempfile.TemporaryFile("w+b", buffering=0, dir=folder, prefix=".volvex-", suffix=PART)  # noqa: SIM115
        self._lock = threading.RLock()  # what is appended may be read from here
        self.size = 0

    def close(self) -> None:
        self._file.close()

    def __del__(self) -> None:
        if "_file" in vars(self):  # a folder without permission: there never was one
            self.close()

    def _read(self, offset: int, size: int) -> bytes:
        with self._lock:
            self._file.seek(offset)
            return self._file.read(size)

    def fileno(self) -> int | None:
        return self._file.fileno()

    def append(self, chunks: Iterable[bytes]) -> tuple[int, int]:
        """Put chunks behind what is there: where they start, and their size."""
        chunks = iter(chunks)
        start = b"".join(
            _up_to(chunks, GATHERED)
        )  # short ones are gathered first, so that threads can make them at once
        with self._lock:
            offset = self.size
            for chunk in itertools.chain([start], chunks):
                self._file.seek(self.size)
                view = memoryview(chunk)
                while view:
                    view = view[self._file.write(view) :]
                self.size += len(chunk)
            return offset, self.size - offset


def _up_to(chunks: Iterator[bytes], size: int) -> Iterator[bytes]:
    for chunk in chunks:
        yield chunk
        size -= len(chunk)
        if size <= 0:
            return
