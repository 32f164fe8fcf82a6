"""Undo edits, dropped entries and new files.

Edited files return to what was taken, new files leave the bench, and dropped entries are taken in again. Nothing of yours is
lost: edited and new files are moved to the bench's folder `undone`.
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
EXAMPLES = (
    "volvex undo mods/notes/readme.txt",
    "volvex undo . --plan",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", nargs="+", metavar="PATH", help="a changed file, a folder, or a pattern; . for all")
    parser.add_argument("--plan", action="store_true", help="print what would be undone and change nothing")
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
