"""Finishing what an interrupted install or restore left, before a command looks at a game."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from volvex.command.ui.context import Context
from volvex.errors import VolvexError


def note_recovered(folder: Path, what: str, context: Context) -> None:
    """Tell what became of an interrupted transaction, if there was one."""
    if what:
        verb, _, became = what.rpartition(" was ")
        context.note(f"note: an interrupted {verb} in {folder} was {became}")


def finish_interrupted(paths: Iterable[Path], context: Context) -> None:
    """Finish or undo the interrupted transactions of the games that these paths lead into: nobody is shown a torn
    state."""
    from volvex.archive.access.paths import HIDDEN

    for folder in dict.fromkeys(folder for path in paths for folder in (path, *path.parents)):
        try:
            if not (folder / HIDDEN).is_dir():
                continue
        except (OSError, ValueError):  # no path that the system knows
            continue
        from volvex.mods import recover

        try:
            note_recovered(folder, recover(folder, context.disk), context)
        except (VolvexError, OSError) as error:
            why = error.message if isinstance(error, VolvexError) else str(error.strerror).lower()
            context.note(
                f"note: {folder} is in the middle of an install or restore, which could not be finished: {why}"
            )
