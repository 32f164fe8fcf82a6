"""Archives written anew: new content is encoded into a spool, the rest is copied as it lies."""

from __future__ import annotations

import contextlib
import itertools
import os
import tempfile
import threading
from collections.abc import Iterable, Iterator
from pathlib import Path

from volvex.archive.archive import Archive, open_archive
from volvex.archive.work import Advance, ignore
from volvex.codec import COMPRESS, SEAL
from volvex.errors import FormatError, NotFoundError
from volvex.layout import Library
from volvex.layout.edits import Edit, NewContent
from volvex.layout.library import require_writable
from volvex.layout.writing import plan
from volvex.source import Disk, Source, atomic
from volvex.source.disk import PART
from volvex.source.reading import CHUNK

GATHERED = 1 << 24  # bytes of one content that are held before they go to the spool


class Spool(Source):
    """A temporary file that holds new contents as they will be stored; gone when it is closed.

    Where the system allows it, the file has no name from the start, so that not even a killed process leaves it.
    """

    name = "new content"

    def __init__(self, folder: Path | None = None) -> None:
        handle, name = tempfile.mkstemp(dir=folder, prefix=".volvex-", suffix=PART)
        self._path, self._file = Path(name), os.fdopen(handle, "w+b", buffering=0)
        self._lock = threading.Lock()
        self.size = 0
        with contextlib.suppress(OSError):  # Windows keeps the names of open files
            self._path.unlink()

    def close(self) -> None:
        self._file.close()
        self._path.unlink(missing_ok=True)

    def _read(self, offset: int, size: int) -> bytes:
        with self._lock:
            self._file.seek(offset)
            return self._file.read(size)

    def fileno(self) -> int | None:
        return self._file.fileno()

    def add(self, chunks: Iterable[bytes], like: Archive, codec: str) -> NewContent:
        """Encode a content for an archive like `like`. Safe to call from several threads."""
        size = 0
        seals = {
            (seal.algorithm, seal.part): SEAL.get(seal.algorithm).new() for _, _, seal in like.reading.entry_seals()
        }

        def update(part: str, data: bytes) -> None:
            for key in seals:
                if key[1] == part:
                    seals[key].update(data)

        def counted() -> Iterator[bytes]:
            nonlocal size
            for chunk in chunks:
                size += len(chunk)
                update("content", chunk)
                yield chunk

        def sealed() -> Iterator[bytes]:
            for out in COMPRESS.get(codec).encode_stream(counted()):
                update("stored content", out)
                yield out

        offset, length = self._append(sealed())
        return NewContent(self, offset, length, size, codec, {key: total.value() for key, total in seals.items()})

    def _append(self, chunks: Iterator[bytes]) -> tuple[int, int]:
        """Put chunks one behind the other. Short contents are gathered first, so that threads can make them at once."""
        start = b"".join(_up_to(chunks, GATHERED))
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


def codec_for(archive: Archive, row: int) -> str:
    """The codec in which new content of an entry is stored: its own, or the first of the layout."""
    codec = archive.codec(row)
    return archive.entries.codecs[0] if codec == "?" else codec


def kin(archive: Archive, name: str) -> int:
    """The entry most like a new one: in the same folder, with the same ending; NotFoundError in an empty archive."""
    if not len(archive):
        raise NotFoundError(f"{archive.source.name} has no entry that a new one could be like")
    folder, _, last = name.rpartition("/")
    key = (folder, last.rpartition(".")[2])
    if key not in archive.kin:  # the same for all new entries of a folder with one ending
        archive.kin[key] = max(range(len(archive)), key=lambda row: _likeness(archive.names[row], *key))
    return archive.kin[key]


def _likeness(name: str, folder: str, ending: str) -> tuple[int, bool]:
    """How many folders a name shares with another from the top, and whether its ending is the same."""
    other, _, base = name.rpartition("/")
    common = 0
    for ours, theirs in zip(folder.split("/"), other.split("/"), strict=False):
        if ours != theirs:
            break
        common += 1
    return common, base.rpartition(".")[2] == ending


def file_chunks(path: Path) -> Iterator[bytes]:
    """A file's bytes in pieces."""
    with path.open("rb") as file:
        while chunk := file.read(CHUNK):
            yield chunk


def rebuild(
    archive: Archive, edit: Edit, target: Path, disk: Disk, advance: Advance = ignore, durable: bool = False
) -> int:
    """Write an archive with changes to `target`, whole or not at all; its size in bytes.

    What was written is opened again before it gets its name.
    """
    require_writable(archive.layout)
    made = plan(archive.reading, edit)
    with atomic(disk, target, durable) as file:
        for piece in made.pieces:
            if piece.source is None:
                disk.write(file, piece.data)
            else:
                disk.copy_span(piece.source, piece.offset, piece.size, file)
            advance(piece.size)
        file.flush()
        _check_written(Path(file.name), archive, edit, made.size)
    return made.size


def _check_written(path: Path, archive: Archive, edit: Edit, size: int) -> None:
    written = open_archive(path, Library(), layout=archive.layout)
    assert written is not None
    with written:
        wanted = len(archive) + len(edit.added) - len(edit.removed)
        if written.source.size != size or len(written) != wanted:
            raise FormatError(
                path,
                f"{written.source.size} bytes and {len(written)} entries were written, {size} and {wanted} were planned",
            )
