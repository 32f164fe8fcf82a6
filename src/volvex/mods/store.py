"""The content-addressed store of originals. Objects are verified and synced before they get their name."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable
from pathlib import Path

from blake3 import blake3

from volvex.errors import FormatError
from volvex.source import Disk, FileSource, atomic
from volvex.source.digest import STEP, digest_file

Advance = Callable[[int], None]


class Store:
    """Objects below a folder, each named by the digest of its content."""

    def __init__(self, folder: Path, disk: Disk) -> None:
        self.folder, self.disk = folder, disk

    def path(self, digest: str) -> Path:
        """Where an object is, or would be."""
        return self.folder / digest[:2] / digest[2:]

    def has(self, digest: str) -> bool:
        return self.path(digest).is_file()

    def put(self, file: Path, advance: Advance) -> str:
        """Keep a copy of a file; its digest. The copy is read back before it counts."""
        digest = digest_file(file, advance)
        target = self.path(digest)
        if not target.exists():
            copy(file, target, digest, self.disk, advance)
            if digest_file(target, advance) != digest:
                self.disk.remove(target)
                raise FormatError(target, f"the copy of {file.name} did not read back as it was written",
                                  hint="looking after this disk: it loses data")  # fmt: skip
        return digest

    def check(self, digest: str, advance: Advance) -> None:
        """FormatError when an object is not what its name says."""
        target = self.path(digest)
        if not target.is_file() or digest_file(target, advance) != digest:
            raise FormatError(
                target, "this original is missing or damaged", hint="having the game's launcher repair its files"
            )


def copy(source: Path, target: Path, digest: str | None, disk: Disk, advance: Advance) -> str:
    """Copy a file, synced, with its times and mode; its digest, which must be `digest` unless that is None."""
    state = blake3(max_threads=blake3.AUTO)
    with FileSource(source) as reader, atomic(disk, target) as file:
        for chunk in reader.chunks(0, reader.size, STEP):
            state.update(chunk)
            disk.write(file, chunk)
            advance(len(chunk))
        found = str(state.hexdigest())
        if digest is not None and found != digest:
            raise FormatError(
                source, "the file changed while it was copied", hint="closing the game and its launcher first"
            )
        file.flush()
        _copy_times(source, Path(file.name))
    return found


def _copy_times(source: Path, target: Path) -> None:
    told = source.stat()
    with contextlib.suppress(OSError):  # a disk without modes or times still keeps the content
        target.chmod(told.st_mode & 0o777)
        os.utime(target, ns=(told.st_atime_ns, told.st_mtime_ns))
