"""A disk that fails at a chosen step, and the program on such a disk: `python -m tests.faulty_disk kill:7 install`."""

from __future__ import annotations

import errno
import os
import signal
import sys

from volvex.command.ui.context import make_context
from volvex.command.ui.main import main
from volvex.source import Disk

KILLED = 137 if os.name == "nt" else -signal.SIGKILL


class FaultyDisk(Disk):
    """A disk that fails at its `at`-th step: killed there (`kill`), full from there on (`full`), or denying that step
    (`deny`)."""

    def __init__(self, fault: str, at: int) -> None:
        self.fault, self.at, self.taken = fault, at, 0

    def step(self, name: str) -> None:
        self.taken += 1
        if self.fault == "kill" and self.taken == self.at:
            _die()
        if self.fault == "deny" and self.taken == self.at:
            raise PermissionError(errno.EACCES, os.strerror(errno.EACCES), name.partition(" ")[2])
        grows = name.split()[0] in ("create", "write", "copy", "make", "allocate")
        if self.fault == "full" and self.taken >= self.at and grows:
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))


class Stop(BaseException):
    """Stands for the end of the process."""


class StoppingDisk(FaultyDisk):
    """As a kill, without a process of its own: nothing is done at the step or after it."""

    def step(self, name: str) -> None:
        self.taken += 1
        if self.taken >= self.at:
            raise Stop


def _die() -> None:
    """End this process as a power cut would: no handler, no clean-up."""
    if sys.platform == "win32":
        os._exit(137)
    os.kill(os.getpid(), signal.SIGKILL)


def disk_of(fault: str) -> Disk:
    """The disk that `kill:7` or `stop:7` describes; a sound one for an empty text."""
    kind, _, at = fault.partition(":")
    if not kind:
        return Disk()
    return StoppingDisk(kind, int(at)) if kind == "stop" else FaultyDisk(kind, int(at))


if __name__ == "__main__":
    context = make_context()
    context.disk = disk_of(sys.argv[1])
    sys.exit(main(sys.argv[2:], context))
