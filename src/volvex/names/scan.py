"""Reading all that can be read on a hunt: entries of archives at any depth and plain files, for words and paths in
them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from volvex.archive.access.paths import Found, Group
from volvex.archive.archive import IN_MEMORY, Archive
from volvex.archive.detect import filetypes
from volvex.archive.transfer.parallel import OnProgress, batches, parallel
from volvex.errors import VolvexError
from volvex.names.scan_cache import Read, ReadMemory
from volvex.names.words import words_in
from volvex.source.digest import digest_bytes

WORDS, PATHS = 1 << 21, 1 << 22  # single words, and paths, that are kept
WINDOW = 1 << 24  # bytes of large content that are looked through at once


@dataclass
class ScanResult:
    """All that was read. Of each word, the batch and the path of the first file in which it stands."""

    paths: dict[str, tuple[str, str]] = field(default_factory=dict)
    words: dict[str, tuple[str, str]] = field(default_factory=dict)
    files: int = 0
    bytes: int = 0
    remembered: int = 0  # bytes that were read on an earlier hunt
    faults: list[VolvexError] = field(default_factory=list)

    def take(self, batch: _Batch, words: Read) -> None:
        """Add what was read from a batch; which one comes first does not matter."""
        for row, word in words:
            home, room = (self.paths, PATHS) if word.path else (self.words, WORDS)
            before = home.get(word.text)
            if len(home) < room if before is None else batch.order < before[0]:
                home[word.text] = (batch.order, batch.name_of(row))


@dataclass(frozen=True)
class _Batch:
    """Some entries of an archive, or a file."""

    place: str
    stamp: str
    number: int
    size: int
    read: Callable[[list[VolvexError]], Read]
    name_of: Callable[[int], str]
    files: int

    @property
    def order(self) -> str:
        """By which of two batches counts as the first in which a word stands."""
        return f"{self.place} {self.number:06}"


def scanned(found: Found, memory: ReadMemory, on_progress: OnProgress) -> ScanResult:
    """Read everything that was found; content that cannot be decoded is told in `faults`."""
    done = ScanResult()

    def read(batch: _Batch) -> tuple[_Batch, Read, bool]:
        known = memory.known(batch.place, batch.stamp, batch.number)
        if known is not None:
            return batch, known, True
        faults: list[VolvexError] = []
        words = batch.read(faults)
        done.faults += faults
        if not faults:
            memory.keep(batch.place, batch.stamp, batch.number, words)
        return batch, words, False

    for batch, words, known in parallel(read, _batches(found)):
        done.take(batch, words)
        done.files, done.bytes = done.files + batch.files, done.bytes + batch.size
        done.remembered += batch.size if known else 0
        on_progress(batch.size)
    return done


def total(found: Found) -> int:
    """How many bytes there are to read."""
    sizes = [int(group.archive.entries.size[group.rows].sum()) for group in found.groups]
    return sum(sizes) + sum(path.stat().st_size for _, path in _plain_files(found))


def _batches(found: Found) -> Iterator[_Batch]:
    for group in found.groups:
        stamp = _stamp(group)
        rows = np.array([row for row in group.rows.tolist() if not _passed_by(group.archive, row)], np.int64)
        for number, numbers in enumerate(batches(group.archive, rows)):
            yield _of_entries(group, numbers, stamp, number)
    for name, path in _plain_files(found):
        yield _of_file(name, path)


def _plain_files(found: Found) -> Iterator[tuple[str, Path]]:
    """Files that are no archives, and programs, whose own strings are in none of their parts."""
    yield from found.files
    for group in found.groups:
        if not group.above and Path(group.archive_path).is_file():
            with Path(group.archive_path).open("rb") as file:
                if filetypes.kind_by_content(file.read(filetypes.HEAD)) in ("exe", "elf"):
                    yield group.archive_path, Path(group.archive_path)


def _stamp(group: Group) -> str:
    """What tells an archive's content from that of another version: where it lies, its size, and its directory."""
    of = group.archive.entries
    data = b"".join(np.ascontiguousarray(column).tobytes() for column in (of.start, of.stored, of.size, group.rows))
    head = group.archive.source.peek(0, 1 << 16)
    return f"{group.archive.source.size} {digest_bytes(data + head)[:24]}"


def _passed_by(archive: Archive, row: int) -> bool:
    return (
        row in archive.folders
        or not archive.entries.size[row]
        or bool(archive.refusal(row))
        or archive.codec(row) == "?"
    )


def _of_entries(group: Group, rows: list[int], stamp: str, number: int) -> _Batch:
    archive = group.archive

    def read(faults: list[VolvexError]) -> Read:
        words: Read = []
        for row in rows:
            try:
                for window in _windows(archive, row):
                    words += [(row, word) for word in words_in(window)]
            except VolvexError as error:
                faults.append(error)
        return words

    size = int(archive.entries.size[np.array(rows, np.int64)].sum())
    return _Batch(
        group.archive_path, stamp, number, size, read, lambda row: f"{group.path}/{archive.names[row]}", len(rows)
    )


def _windows(archive: Archive, row: int) -> Iterator[bytes]:
    """An entry's content in pieces that are large enough for what stands in them, however large it is."""
    if int(archive.entries.size[row]) <= min(IN_MEMORY, 4 * WINDOW):
        yield archive.content(row)
        return
    rest = b""
    for chunk in archive.chunks(row):
        rest += chunk
        if len(rest) >= WINDOW:
            yield rest
            rest = rest[-512:]  # a path may lie across the cut
    yield rest


def _of_file(name: str, path: Path) -> _Batch:
    status = path.stat()

    def read(_: list[VolvexError]) -> Read:
        words: Read = []
        with path.open("rb") as file:
            rest = b""
            while chunk := file.read(WINDOW):
                words += [(0, word) for word in words_in(rest + chunk)]
                rest = chunk[-512:]
        return words

    return _Batch(name, f"{status.st_size} {status.st_mtime_ns}", 0, status.st_size, read, lambda row: name, 1)
