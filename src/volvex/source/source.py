"""Sources: spans of bytes, read on demand and from any thread."""

from __future__ import annotations

import os
import tempfile
import threading
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from io import FileIO
from pathlib import Path
from types import TracebackType
from typing import IO, Self

from volvex.errors import FormatError
from volvex.source.pool import Pool

CHUNK = 1 << 20


class Source(ABC):
    """A row of bytes with a name and a size. Reading past its end is an error, never a short answer."""

    name: str
    size: int
    beside: Beside | None = None  # finds other files from the folder in which this one lies

    @abstractmethod
    def _read(self, offset: int, size: int) -> bytes: ...

    def read(self, offset: int, size: int) -> bytes:
        """Exactly `size` bytes from `offset`; FormatError when they are not all there."""
        if offset < 0 or size < 0 or offset + size > self.size:
            raise FormatError(
                self.name,
                f"wanted {size} bytes here, the file ends at {self.size:#x}",
                offset=offset,
                hint="a fresh copy of the file: it may be cut off",
            )
        data = self._read(offset, size)
        if len(data) != size:
            raise FormatError(self.name, "the file became shorter while it was read", offset=offset)
        return data

    def peek(self, offset: int, size: int) -> bytes:
        """At most `size` bytes from `offset`; none behind the end."""
        return self.read(offset, min(size, self.size - offset)) if offset < self.size else b""

    def chunks(self, offset: int, size: int, step: int = CHUNK) -> Iterator[bytes]:
        """The span in pieces of at most `step` bytes."""
        for start in range(offset, offset + size, step):
            yield self.read(start, min(step, offset + size - start))

    def fileno(self) -> int | None:
        """A file descriptor for copying within the system, where there is one."""
        return None

    def close(self) -> None:
        """Let go of what is held."""

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()


Beside = Callable[[str], Source | None]  # the file at a path from that folder; None when there is none
FILES: Pool = Pool(200)  # files that are open at once: games have thousands of archives, systems allow some hundred
HELD: Pool = Pool(1 << 28)  # bytes of decoded content that are held in memory


class FileSource(Source):
    """A file on disk, read without a mapping: a file that shrinks under us is an error, not a crash.

    When very many are open it is closed for a while, and opened again when it is read; then it must still be the same
    file.
    """

    def __init__(self, path: Path, name: str | None = None) -> None:
        self.path = path
        self.name = name or path.as_posix()
        self._lock = threading.Lock()
        self._using = 0
        self._closed = False
        self._file: FileIO | None = FileIO(path)
        self._facts = self._found()
        self.size = self._facts[0]
        FILES.took(self)

    def _found(self) -> tuple[int, int, int, int]:
        assert self._file is not None
        found = os.fstat(self._file.fileno())
        return found.st_size, found.st_mtime_ns, found.st_dev, found.st_ino

    def _opened(self) -> FileIO:
        """The open file, opened again if it had to give way."""
        with self._lock:
            if self._closed:
                raise ValueError(f"{self.name} was closed")
            self._using += 1
            if self._file is not None:
                file = self._file
            else:
                try:
                    file = self._file = FileIO(self.path)
                    if self._found() != self._facts:
                        raise FormatError(
                            self.name, "the file changed while it was read", hint="running the command again"
                        )
                except BaseException:
                    self._using -= 1
                    if self._file is not None:
                        self._file.close()
                        self._file = None
                    raise
                FILES.took(self)
                return file
        FILES.used(self)
        return file

    def give_way(self) -> bool:
        if not self._lock.acquire(blocking=False):
            return False
        try:
            if self._using or self._file is None:
                return False
            self._file.close()
            self._file = None
            return True
        finally:
            self._lock.release()

    def _read(self, offset: int, size: int) -> bytes:
        parts = []
        file = self._opened()
        try:
            while size > 0:
                part = self._read_once(file, offset, size)
                if not part:
                    break
                parts.append(part)
                offset, size = offset + len(part), size - len(part)
        finally:
            with self._lock:
                self._using -= 1
        return parts[0] if len(parts) == 1 else b"".join(parts)

    def _read_once(self, file: FileIO, offset: int, size: int) -> bytes:
        if hasattr(os, "pread"):
            return os.pread(file.fileno(), size, offset)
        with self._lock:  # Windows has no pread
            file.seek(offset)
            return file.read(size)

    def fileno(self) -> int | None:
        return self._opened().fileno()  # from here on it stays open until it is closed

    def close(self) -> None:
        with self._lock:
            self._closed = True
            if self._file is not None:
                self._file.close()
                self._file = None
        FILES.let_go(self)


class BytesSource(Source):
    """Bytes in memory."""

    def __init__(self, data: bytes, name: str) -> None:
        self.data, self.name, self.size = data, name, len(data)

    def _read(self, offset: int, size: int) -> bytes:
        return self.data[offset : offset + size]


class EndsSource(Source):
    """A view of a source that reads its beginning and its end once: for asking many times what a file is."""

    ENDS = 1 << 14  # bytes of each end

    def __init__(self, source: Source) -> None:
        self.inner, self.name, self.size = source, source.name, source.size
        self._tail_start = max(0, source.size - self.ENDS)
        self._head: bytes | None = None
        self._tail: bytes | None = None

    def _read(self, offset: int, size: int) -> bytes:
        if offset + size <= self.ENDS:
            if self._head is None:
                self._head = self.inner.peek(0, self.ENDS)
            return self._head[offset : offset + size]
        if offset >= self._tail_start:
            if self._tail is None:
                self._tail = self.inner.peek(self._tail_start, self.ENDS)
            return self._tail[offset - self._tail_start :][:size]
        return self.inner.read(offset, size)

    def close(self) -> None:
        self.inner.close()


class LazySource(Source):
    """Bytes of a known size that are made when somebody first reads them; held in memory, or beyond `HELD` in a file.

    What is held in memory gives way when many do so, and is made again.
    """

    HELD = 1 << 26

    def __init__(self, name: str, size: int, make: Callable[[], Iterator[bytes]], head: bytes = b"") -> None:
        self.name, self.size, self._make = name, size, make
        self._head = head  # the first bytes, where they are known already
        self._held: bytes | None = None
        self._file: IO[bytes] | None = None
        self._lock = threading.Lock()

    def _read(self, offset: int, size: int) -> bytes:
        if offset + size <= len(self._head):
            return self._head[offset : offset + size]
        filled = False
        with self._lock:
            if self._held is None and self._file is None:
                self._fill()
                filled = self._held is not None
            if self._held is not None:
                data = self._held[offset : offset + size]
            else:
                assert self._file is not None
                self._file.seek(offset)
                data = self._file.read(size)
        if filled:
            HELD.took(self, self.size)
        elif self._file is None:
            HELD.used(self)
        return data

    def _fill(self) -> None:
        if self.size <= self.HELD:
            self._held = b"".join(self._make())
            return
        file = tempfile.TemporaryFile(prefix="volvex-")  # noqa: SIM115 - it lives as long as the source
        try:
            for chunk in self._make():
                file.write(chunk)
        except BaseException:
            file.close()
            raise
        self._file = file

    def give_way(self) -> bool:
        if not self._lock.acquire(blocking=False):
            return False
        try:
            given, self._held = self._held is not None, None
            return given
        finally:
            self._lock.release()

    def close(self) -> None:
        if self._file is not None:
            self._file.close()
        self._held = None
        HELD.let_go(self)
