"""What differs from the original: file by file, and line by line for text."""

from __future__ import annotations

import argparse

from volvex.archive.names import shown
from volvex.bench.changes import Change, changes, lines
from volvex.bench.workbench import Workbench
from volvex.command._bench import add_bench, open_bench
from volvex.command._context import Context
from volvex.command._tables import count, number
from volvex.errors import Status

PLACE = 35
A_FILE = 40  # lines shown of one file


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--brief", action="store_true", help="files only, no lines")
    parser.add_argument("--all", action="store_true", help=f"every line, not just the first {A_FILE} of a file")
    parser.add_argument("--json", action="store_true", help="one list of records")
    add_bench(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_bench(options, context) as bench:
        found = changes(bench)
        if options.json:
            context.json(_record(bench, change, options.brief) for change in found)
            return Status.OK
        for change in found:
            _print(bench, change, options, context)
        gone = sum(not (bench.files / place).exists() for place in bench.taken)
    if not found:
        context.print("nothing differs from the original")
    else:
        added, removed = (sum(change.what == what for change in found) for what in ("added", "removed"))
        left_out = f", {removed:,} left out" if removed else ""
        context.print(
            context.paint(f"{count(len(found) - added - removed, 'file')} changed, {added:,} added{left_out}", "dim")
        )
    if gone:
        context.note(
            f"note: {count(gone, 'file')} that was taken is no longer in the bench; the game keeps the original"
        )
    return Status.OK


def _record(bench: Workbench, change: Change, brief: bool) -> dict[str, object]:
    record: dict[str, object] = {"path": change.path, "what": change.what, "type": change.kind,
                                 "before": change.before, "after": change.after}  # fmt: skip
    if change.is_text and not brief:
        record["lines"] = [{"sign": one.sign, "line": one.number, "text": one.text} for one in lines(bench, change)]
    return record


def _print(bench: Workbench, change: Change, options: argparse.Namespace, context: Context) -> None:
    if change.what == "removed":
        context.print(
            f"{change.what}  {context.paint(shown(change.path), 'bold')}  {change.kind}, {number(change.before or 0)} bytes"
        )
        return
    sizes = (
        f"{number(change.before)} -> {number(change.after)} bytes"
        if change.before is not None
        else f"{number(change.after)} bytes"
    )
    context.print(f"{change.what}  {context.paint(shown(change.path), 'bold')}  {change.kind}, {sizes}")
    if options.brief or not change.is_text:
        return
    told = list(lines(bench, change))
    for one in told if options.all else told[:A_FILE]:
        context.print(
            context.paint(
                f"  {one.number:>5} {one.sign} {shown(one.text.expandtabs(4))}", "red" if one.sign == "-" else "green"
            )
        )
    if len(told) > A_FILE and not options.all:
        context.print(f"        and {count(len(told) - A_FILE, 'more line')}: --all shows them")
