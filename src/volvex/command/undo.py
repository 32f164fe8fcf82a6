"""Undo edits, drops and new files: what is named is as the game has it again.

Edited files go back to what was taken, files that the game did not have leave the bench, and entries that were left out are in
again. Nothing of yours is lost: the edited and the new files are kept in the bench's folder `undone`.
"""

from __future__ import annotations

import argparse

from volvex.archive.safe_names import shown
from volvex.bench.undo import undo
from volvex.command.ui.bench import add_bench, open_bench
from volvex.command.ui.context import Context
from volvex.command.ui.table import count
from volvex.errors import Status

PRIORITY = 35
EXAMPLES = ()


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "path", nargs="+", metavar="PATH", help="what was changed, a folder of it, or a pattern; . for all"
    )
    parser.add_argument("--plan", action="store_true", help="say what would be undone, and change nothing")
    add_bench(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_bench(options, context, sync_exports=True) as bench:
        done = undo(bench, [bench.within_game(path, context.cwd) for path in options.path], not options.plan)
    for one in done:
        kept = f"; kept in {shown(one.kept)}" if one.kept else ""
        context.print(f"{shown(one.path)}: {one.what}{kept}")
    said = "would be undone; plan only, nothing changed" if options.plan else "undone"
    context.print(context.paint(f"{count(len(done), 'change')} {said}", "dim"))
    return Status.OK
