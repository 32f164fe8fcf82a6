"""How lines of a game's log are printed."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from volvex.archive.safe_names import shown
from volvex.bench.game_description import GameDescription
from volvex.command.ui.context import Context
from volvex.command.ui.table import count
from volvex.mods.running import LogLine

COLOURS = {"error": "red", "warning": "yellow"}


def log_of(description: GameDescription, game: Path) -> Path | None:
    """Where a game writes its log; None when its description does not say so."""
    return game / description.log if description.log else None


def print_line(line: LogLine, context: Context) -> None:
    """One line, marked when it is an error or a warning."""
    mark = context.paint(line.level.ljust(7), COLOURS[line.level]) if line.level else " " * 7
    about = context.paint(f"  ({'or '.join(line.mods)})", "cyan") if line.mods else ""
    context.print(f"{mark}  {shown(line.text)}{about}")


def summary(lines: Sequence[LogLine]) -> str:
    """How many errors and warnings there are, and of which mods."""
    errors, warnings = (sum(line.level == level for line in lines) for level in ("error", "warning"))
    mods = dict.fromkeys(mod for line in lines if line.level == "error" for mod in line.mods)
    text = f"{count(errors, 'error')}, {count(warnings, 'warning')}" if errors or warnings else "no errors"
    return text + (f"; look at {', '.join(mods)}" if mods else "")
