"""A lock on a folder: one process at a time works in it.

The lock goes with the process, however it ends. A lock file may be removed by its holder: whoever opened the removed
file meanwhile finds out that the path leads to another file now, and tries again. No library for locks shows which file
it holds, which is why this is our own.
"""

from __future__ import annotations

import contextlib
import errno
import os
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from volvex.errors import RefusedError

if os.name == "nt":
    import msvcrt

    def _try_lock(handle: int) -> bool:
        try:
            msvcrt.locking(handle, msvcrt.LK_NBLCK, 1)  # type: ignore[attr-defined,unused-ignore]
        except OSError:
            return False
        return True
else:
    import fcntl

    def _try_lock(handle: int) -> bool:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            if error.errno in (errno.EACCES, errno.EAGAIN):
                return False
            raise
        return True


_FLAGS = os.O_RDWR | os.O_CREAT | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_CLOEXEC", 0)
PAUSE = 0.02  # seconds between two tries


class Lock:
    """A held lock; `release` lets go of it, `remove` of the file as well."""

    def __init__(self, path: Path, handle: int) -> None:
        self._path, self._handle = path, handle

    def remove(self) -> None:
        """Remove the file while it is held. Where open files cannot be removed, it goes right after the release."""
        if os.name != "nt":
            self._path.unlink(missing_ok=True)
            return
        self.release()
        with contextlib.suppress(OSError):
            self._path.unlink(missing_ok=True)

    def release(self) -> None:
        """Let others in; nothing happens when that was done already."""
        if self._handle >= 0:
            os.close(self._handle)
            self._handle = -1


def _opened(path: Path) -> int:
    try:
        return os.open(path, _FLAGS, 0o666)
    except OSError as error:
        if error.errno == errno.ELOOP:
            raise RefusedError(f"{path} is a link, and Volvex makes none", "removing it") from error
        raise


def _acquired(path: Path) -> Lock | None:
    """The lock, when it is free and the path still leads to the file that was locked."""
    handle = _opened(path)
    try:
        if _try_lock(handle) and os.path.samestat(os.fstat(handle), os.lstat(path)):
            lock, handle = Lock(path, handle), -1
            return lock
    except FileNotFoundError:
        pass  # removed by its last holder: the next try makes a new one
    finally:
        if handle >= 0:
            os.close(handle)
    return None


def acquire(path: Path, wait: float = 0.0, waiting: Callable[[], None] = lambda: None) -> Lock | None:
    """The lock in a file, which is made when missing; None when another process holds it for all of `wait` seconds.

    `waiting` is called once, when it has taken a second.
    """
    began, told = time.monotonic(), False
    while True:
        lock = _acquired(path)
        passed = time.monotonic() - began
        if lock is not None or (passed >= wait and passed >= 5 * PAUSE):
            return lock
        if passed > 1 and not told:
            waiting()
            told = True
        time.sleep(PAUSE)


@contextlib.contextmanager
def held(path: Path, wait: float = 60.0) -> Iterator[None]:
    """Hold the lock for a short piece of work. RefusedError when another process keeps it too long."""
    path.parent.mkdir(parents=True, exist_ok=True)
    lock = acquire(path, wait)
    if lock is None:
        raise RefusedError(f"another volvex holds {path}", "waiting until it is done")
    try:
        yield
    finally:
        with contextlib.suppress(OSError):
            lock.remove()
        lock.release()
