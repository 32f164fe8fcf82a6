"""Files of the user's that a command on a bench replaces or takes away: each is kept in the bench's folder `undone`."""

from __future__ import annotations

from pathlib import Path

from volvex.archive.transfer.rebuild import file_chunks
from volvex.source import Disk, atomic

FOLDER = "undone"


def keep_aside(folder: Path, file: Path, path: str, disk: Disk) -> str:
    """Copy a file into the folder `undone` of a bench, under a name that is free.

    `path` is where it was, below the bench's `files` or below the bench. Returns where the copy is, below the bench.
    """
    kept = _free(folder / FOLDER / path)
    with atomic(disk, kept, durable=False) as out:
        for chunk in file_chunks(file):
            disk.write(out, chunk)
    return kept.relative_to(folder).as_posix()


def _free(path: Path) -> Path:
    """A path that nothing has yet."""
    number, free = 1, path
    while free.exists():
        number += 1
        free = path.with_name(f"{path.stem}~{number}{path.suffix}")
    return free
