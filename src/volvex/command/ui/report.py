"""What every command can do besides its work: rehearse it (`--plan`), and give account of it as JSON.

A command with options of these names of its own does that by itself.
"""

from __future__ import annotations

import argparse
import io
from pathlib import Path
from typing import TYPE_CHECKING

from volvex.source.rehearsal import AccountingDisk, Rehearsal

if TYPE_CHECKING:
    from volvex.command.ui.commands import Command
    from volvex.command.ui.context import Context


def add_reports(parser: argparse.ArgumentParser, command: Command) -> None:
    """`--plan` for a command that writes and has none of its own; `--json` for one that has none of its own."""
    own = {name for action in parser._actions for name in action.option_strings}
    common = parser.add_argument_group("plan and account")
    if getattr(command, "WRITES", False) and "--plan" not in own:
        common.add_argument("--plan", dest="rehearse", action="store_true", help="do the work, but change nothing")
    if getattr(command, "JSON", True) and "--json" not in own:
        common.add_argument(
            "--json",
            dest="account",
            action="store_true",
            help="print JSON: the files written and removed, and the results",
        )


def run_reported(command: Command, options: argparse.Namespace, context: Context) -> int:
    """Run a command, on a disk on which nothing changes with `--plan`; its exit status."""
    rehearse, account = getattr(options, "rehearse", False), getattr(options, "account", False)
    if not rehearse and not account:
        return command.run(options, context)
    real, out = context.disk, context.out
    disk: AccountingDisk
    if account:
        context.out, context.colour, context.terminal = io.StringIO(), False, False
    try:
        if rehearse:
            with Rehearsal(real) as rehearsal:
                context.disk = disk = rehearsal
                status = command.run(options, context)
        else:
            context.disk = disk = AccountingDisk(real)
            status = command.run(options, context)
        said = context.out.getvalue() if isinstance(context.out, io.StringIO) else ""
    finally:
        context.disk, context.out = real, out
    if getattr(options, "json", False):
        pass  # the command has printed a list of records itself
    elif account:
        lines = [{"what": "line", "text": line} for line in said.splitlines()]
        context.json([*_files(disk, context.cache), *(context.accounts or lines)])
    else:
        context.print(context.paint("plan only, nothing changed", "dim"))
    return status


def _files(disk: AccountingDisk, cache: Path) -> list[dict[str, object]]:
    """The files that were written and removed."""
    written = {path: size for path, size in disk.written.items() if not Path(path).is_relative_to(cache)}
    records: list[dict[str, object]] = [
        {"what": "written", "path": path, "size": size} for path, size in written.items()
    ]
    return records + [{"what": "removed", "path": path} for path in disk.removed]
