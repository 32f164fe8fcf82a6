"""One process at a time on a bench, and what those leave behind that are killed."""

from __future__ import annotations

import errno
from collections.abc import Callable
from pathlib import Path

from volvex.errors import RefusedError
from volvex.source import Disk
from volvex.source.disk import is_leftover, is_stale
from volvex.source.lock import Lock, acquire

LOCK = "lock"
WAIT = 600.0  # seconds for another process that works on the bench
FOLDERS = ("files", "built", "open", "base")


def lock_bench(folder: Path, waiting: Callable[[], None]) -> Lock | None:
    """The lock of a bench, waited for; None where the folder cannot be written, so that nothing will be. RefusedError
    when another process keeps it."""
    try:
        lock = acquire(folder / LOCK, WAIT, waiting)
    except (PermissionError, FileNotFoundError):
        return None
    except OSError as error:
        if error.errno == errno.EROFS:
            return None
        raise
    if lock is None:
        raise RefusedError(f"another volvex is at work in {folder}", "waiting until it is done")
    return lock


def clear_leftovers(folder: Path, disk: Disk) -> None:
    """Remove the temporary files of processes that were killed; only for the holder of the lock."""
    for home in (folder, *(folder / name for name in FOLDERS)):
        for path in home.glob("*") if home == folder else home.rglob("*"):
            if is_stale(path):  # another command may be writing a file here, for which no lock is needed
                disk.remove(path)


def is_unfinished(folder: Path) -> bool:
    """Whether a folder is empty, but for what making a bench leaves behind on a full disk."""
    names = {path.name for path in folder.iterdir() if not is_leftover(path.name)}
    return names <= {"files", LOCK} and not (names & {"files"} and any((folder / "files").iterdir()))
