"""Apply saved changes, or carry edits into an updated game.

Without FILE, the bench's edits go into the newer files of an updated game. With FILE, changes that `changes --save`
wrote go into this bench. Changes that others made in the meantime stay. Where both changed the same field, nothing is
decided: all conflicts are listed and nothing is written.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.archive.safe_names import shown
from volvex.bench.merge import MergeResult, apply, read_saved, renew
from volvex.command.ui.bench import add_bench, open_bench
from volvex.command.ui.context import Context
from volvex.command.ui.data import change_line
from volvex.command.ui.reader import add_layout
from volvex.command.ui.table import count
from volvex.data.differences import plain
from volvex.errors import Status

PRIORITY = 38
INPUTS = ("file",)
EXAMPLES = (
    "volvex merge",
    "volvex merge wick.json --plan",
)
STATUSES = {Status.DIFFERS: "conflicts, nothing written"}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("file", nargs="?", type=Path, metavar="FILE", help="a file written by `changes --save`")
    parser.add_argument("--plan", action="store_true", help="print the changes and change nothing")
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")
    add_layout(parser)
    add_bench(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_bench(options, context, sync_exports=True) as bench:
        if options.file is not None:
            found = apply(bench, read_saved(options.file), not options.plan)
        else:
            found = renew(bench, not options.plan)
    conflicts = sum(len(result.conflicts) for result in found)
    if options.json:
        context.json(_record(result) for result in found)
    else:
        for result in found:
            _print(result, context)
        _summary(found, conflicts, options.plan, context)
    return Status.DIFFERS if conflicts else Status.OK


def _record(result: MergeResult) -> dict[str, object]:
    return {
        "path": result.path,
        "made": [plain(change) for change in result.made],
        "already": result.done,
        "taken": result.taken,
        "conflicts": [plain(conflict.change) | {"found": conflict.found} for conflict in result.conflicts],
    }


def _print(result: MergeResult, context: Context) -> None:
    path = shown(result.path)
    if result.taken:
        context.print(f"{path}: not edited, so it is the game's new one now")
    for change in result.made:
        context.print(f"{path}: {change_line(change, context)}")
    if result.done:
        context.print(f"{path}: {count(result.done, 'change')} made already")
    for conflict in result.conflicts:
        context.print(f"{path}: {context.paint('conflict', 'red')}: {shown(str(conflict))}")


def _summary(found: list[MergeResult], conflicts: int, plan: bool, context: Context) -> None:
    made = sum(len(result.made) for result in found)
    if conflicts:
        context.print(
            context.paint(
                f"{count(conflicts, 'conflict')}: nothing was written; set those fields on the bench to what they "
                f"are now, or leave the change out",
                "dim",
            )
        )
    elif not found:
        context.print("the game's files are those that were taken: there is nothing to carry over")
    else:
        said = "would be carried over; plan only, nothing changed" if plan else "carried over"
        context.print(context.paint(f"{count(made, 'change')} {said}", "dim"))
