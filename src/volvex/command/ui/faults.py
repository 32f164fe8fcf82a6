"""What could not be read on the way, told once, and the exit status that follows from it."""

from __future__ import annotations

from collections.abc import Sequence

from volvex.command.ui.context import Context
from volvex.errors import LockedError, NotFoundError, RefusedError, Status, VolvexError

TOLD = 20


def note_faults(faults: Sequence[VolvexError], context: Context, before: str = "") -> int:
    """Tell what could not be read, each once, with what to do; 0, or the exit status that the worst of it asks for."""
    told = list(dict.fromkeys(tuple(fault.lines(context.author)) for fault in faults))
    for lines in told[:TOLD]:
        context.complain("\n".join([f"{before}{lines[0]}", *lines[1:]]))
    if len(told) > TOLD:
        context.complain(f"and {len(told) - TOLD:,} more")
    return status_of(faults)


def status_of(faults: Sequence[VolvexError]) -> int:
    """The exit status for what could not be read: damaged before refused before locked before missing."""
    order: tuple[tuple[type[VolvexError], Status], ...] = (
        (LockedError, Status.LOCKED),
        (RefusedError, Status.REFUSED),
        (NotFoundError, Status.NOT_FOUND),
    )
    found = {next((status for kind, status in order if isinstance(fault, kind)), Status.BAD_DATA) for fault in faults}
    worst = (Status.BAD_DATA, Status.REFUSED, Status.LOCKED, Status.NOT_FOUND)
    return int(next((status for status in worst if status in found), Status.OK))
