"""The store of originals, each named by the digest of its content. An original is verified and synced before it gets
its name, and verified again before anything relies on it: a name alone is not trusted."""

from __future__ import annotations

import contextlib
import os
import stat
from collections.abc import Callable, Iterator
from pathlib import Path

from blake3 import blake3

from volvex.errors import FormatError
from volvex.source import Disk, FileSource, atomic
from volvex.source.digest import STEP, digest_bytes, digest_file, is_digest

OnProgress = Callable[[int], None]


class Store:
    """Originals in a folder, each named by the digest of its content."""

    def __init__(self, folder: Path, disk: Disk) -> None:
        self.folder, self.disk = folder, disk

    def path(self, digest: str) -> Path:
        """Where an object is, or would be."""
        return self.folder / digest

    def objects(self) -> Iterator[str]:
        """The digests of all originals. Files with other names are not ours and are ignored."""
        for path in sorted(self.folder.iterdir()) if self.folder.is_dir() else ():
            if is_digest(path.name) and stat.S_ISREG(path.lstat().st_mode):
                yield path.name

    def put(self, file: Path, on_progress: OnProgress) -> str:
        """Keep a copy of a file; its digest. The copy is read back before it counts, and so is one that was there."""
        digest = digest_file(file, on_progress)
        if not self.is_sound(digest, on_progress):
            target = self.path(digest)
            copy(file, target, digest, self.disk, on_progress)
            if digest_file(target, on_progress) != digest:
                self.disk.remove(target)
                raise FormatError(
                    target,
                    f"the copy of {file.name} did not read back as it was written",
                    hint="replacing this disk: it loses data",
                )
        return digest

    def is_sound(self, digest: str, on_progress: OnProgress) -> bool:
        """Whether an object is there, and is what its name says."""
        target = self.path(digest)
        return target.is_file() and not target.is_symlink() and digest_file(target, on_progress) == digest


def copy(
    source: Path, target: Path, digest: str | None, disk: Disk, on_progress: OnProgress, mode_of: Path | None = None
) -> str:
    """Copy a file, synced, with its times, and the mode of `mode_of` when there is one; its digest, which must be
    `digest` unless that is None."""
    state = blake3(max_threads=blake3.AUTO)
    with FileSource(source) as reader, atomic(disk, target) as file:
        for chunk in reader.chunks(0, reader.size, STEP):
            state.update(chunk)
            disk.write(file, chunk)
            on_progress(len(chunk))
        found = str(state.hexdigest())
        if digest is not None and found != digest:
            raise FormatError(
                source, "the file changed while it was copied", hint="closing the game and its launcher first"
            )
        file.flush()
        _copy_facts(source, mode_of or (source if digest is not None else None), Path(file.name))
    return found


def stage(data: bytes, target: Path, mode_of: Path, disk: Disk) -> str:
    """Write bytes to a file, synced, with the mode of another; their digest."""
    with atomic(disk, target) as file:
        disk.write(file, data)
        with contextlib.suppress(OSError):
            Path(file.name).chmod(mode_of.stat().st_mode & 0o777)
    return digest_bytes(data)


def _copy_facts(source: Path, mode_of: Path | None, target: Path) -> None:
    """Times, and the mode; a disk that has neither still keeps the content."""
    with contextlib.suppress(OSError):
        if mode_of is not None:
            target.chmod(mode_of.stat().st_mode & 0o777)
        found = source.stat()
        os.utime(target, ns=(found.st_atime_ns, found.st_mtime_ns))
