"""Undo edits, dropped entries and new files.

Edited files return to what was taken, new files leave the bench, and dropped entries are taken in again. Nothing of
yours is lost: edited and new files are moved to the bench's folder `undone`. With --row only a record, or some fields
of it, get their original values again.
"""

from __future__ import annotations

import argparse

from volvex.archive.safe_names import shown
from volvex.bench.undo import undo, undo_values
from volvex.bench.workbench import Workbench
from volvex.command.ui.bench import add_bench, open_bench, take_over
from volvex.command.ui.context import Context
from volvex.command.ui.data import change_line
from volvex.command.ui.table import count
from volvex.errors import Status, UsageError, VolvexError

PRIORITY = 35
EXAMPLES = (
    "volvex undo data/main.kwp/rules/lamps.xml --row fresnel_3 --fields range --plan",
    "volvex undo mods/notes/readme.txt",
    "volvex undo . --plan",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", nargs="+", metavar="PATH", help="a changed file, a folder, or a pattern; . for all")
    parser.add_argument("--row", metavar="ID", help="only the record with this id, in one file")
    parser.add_argument("--fields", metavar="A,B", help="with --row: only these fields")
    parser.add_argument("--sheet", default="", metavar="NAME", help="with --row: the sheet, when several have that id")
    parser.add_argument("--plan", action="store_true", help="print what would be undone and change nothing")
    add_bench(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    if options.row is None and options.fields is not None:
        raise UsageError("--fields needs a record", "--row ID")
    if options.row is not None:
        return _values(options, context)
    with open_bench(options, context) as bench:
        _take_over(bench, context)
        done = undo(bench, [_path(bench, path, context) for path in options.path], not options.plan)
    for undone in done:
        kept = f"; your file is in {shown(undone.kept)}" if undone.kept else ""
        context.print(f"{shown(undone.path)}: {undone.what}{kept}")
    said = "would be undone; plan only, nothing changed" if options.plan else "undone"
    context.print(context.paint(f"{count(len(done), 'change')} {said}", "dim"))
    return Status.OK


def _take_over(bench: Workbench, context: Context) -> None:
    """Take over what was edited in the folder `open`. What cannot be taken over hinders no undo."""
    try:
        take_over(bench, context)
    except VolvexError as error:
        context.note(f"note: {shown(error.message)}")


def _path(bench: Workbench, path: str, context: Context) -> str:
    """A path as in the game, or that of a file of the folder `open`."""
    if path == "." and not any(context.cwd.is_relative_to(home) for home in (bench.folder, bench.game.folder)):
        return ""  # all of a bench that is named from elsewhere
    for file in ((context.cwd / path).resolve(), bench.folder / path):
        if file.is_relative_to(bench.folder) and (name := file.relative_to(bench.folder).as_posix()) in bench.opened:
            return name
    return bench.within_game(path, context.cwd)


def _values(options: argparse.Namespace, context: Context) -> int:
    """Undo what was set in one record."""
    if len(options.path) != 1:
        raise UsageError("--row is for one file", "a single PATH")
    fields = [name for name in (options.fields or "").split(",") if name]
    with open_bench(options, context, sync_exports=True) as bench:
        path = bench.within_game(options.path[0], context.cwd)
        done = undo_values(bench, path, options.row, fields, options.sheet, not options.plan)
    for change in done:
        context.print(f"{shown(path)}: {change_line(change, context)}")
    said = "would be undone; plan only, nothing changed" if options.plan else "undone"
    context.print(context.paint(f"{count(len(done), 'change')} {said}", "dim"))
    return Status.OK
