"""Show the differences from the original, by id and field.

    lamps: row fresnel_3: range 9 -> 14

Other text is compared line by line. It makes no difference how a change was made: with `set`, in a spreadsheet or by
hand. --save writes all changes into a small file, which `volvex merge FILE` applies to another bench or to a newer
game.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.archive.safe_names import shown
from volvex.asset.kind import kind_of_type
from volvex.bench.changes import FileChange, changes, lines
from volvex.bench.merge import saved
from volvex.bench.semantic_diff import LINES, FileDiff, semantic_diffs
from volvex.bench.workbench import Workbench
from volvex.command.ui.bench import add_bench, open_bench
from volvex.command.ui.context import Context
from volvex.command.ui.data import change_line
from volvex.command.ui.reader import add_layout
from volvex.command.ui.table import count, number
from volvex.data import Change as DataChange
from volvex.data.differences import plain
from volvex.errors import NotFoundError, Status, UsageError, VolvexError
from volvex.source import FileSource
from volvex.source.outputs import new_file

PRIORITY = 35
WRITES = True
OUTPUTS = {"save": ".json", "to": ".png"}
EXAMPLES = (
    "volvex changes",
    "volvex changes --brief",
    "volvex changes --save wick.json",
)
A_FILE = 40  # lines shown of one file


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--brief", action="store_true", help="show files only")
    parser.add_argument("--all", action="store_true", help=f"show every line, not only the first {A_FILE} of a file")
    parser.add_argument("--save", type=Path, metavar="FILE", help="also save the changes to a file, for `merge`")
    parser.add_argument("--overwrite", action="store_true", help="with --save and --to: replace an existing file")
    parser.add_argument("--to", type=Path, metavar="FILE", help="draw changed pictures, before and after, as PNG")
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")
    add_layout(parser)
    add_bench(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    if options.json and options.to is not None:
        raise UsageError("--json prints records, --to draws pictures", "one of the two")
    with open_bench(options, context, sync_exports=True) as bench:
        diffs = (
            list(semantic_diffs(bench))
            if options.save or not options.brief
            else [FileDiff(change, None) for change in changes(bench)]
        )
        found = [diff.file for diff in diffs]
        if options.save:
            _save(bench, diffs, options, context)
        if options.json:
            context.json(_record(bench, diff, options.brief) for diff in diffs)
            return Status.OK
        for one in diffs:
            _print(bench, one, options, context)
        if options.to is not None:
            _draw(bench, found, options, context)
        gone = sum(not (bench.files / place).exists() for place in bench.taken)
    if not found:
        context.print("no changes")
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


def _save(bench: Workbench, diffs: list[FileDiff], options: argparse.Namespace, context: Context) -> None:
    """Write the changes that have a meaning; what is left out is told."""
    file = options.save
    left = [diff.file.path for diff in diffs if diff.changes is None]
    with new_file(context.disk, file, options.overwrite) as out:
        context.disk.write(out, saved(bench.game.description.name, diffs))
    for path in left:
        context.complain(
            f"note: {shown(path)} is no data that changed by id and field, and is not in {shown(str(file))}"
        )


def _record(bench: Workbench, diff: FileDiff, brief: bool) -> dict[str, object]:
    change = diff.file
    record: dict[str, object] = {
        "path": change.path,
        "what": change.what,
        "type": _kind_of(bench, diff),
        "before": change.before,
        "after": change.after,
    }
    if diff.changes is not None and diff.form != LINES and not brief:
        record["changes"] = [plain(change) for change in diff.changes]
    elif change.is_text and not brief:
        record["lines"] = [{"sign": line.sign, "line": line.number, "text": line.text} for line in lines(bench, change)]
    return record


def _kind_of(bench: Workbench, diff: FileDiff) -> str:
    """What a file is, in a word."""
    if diff.form and diff.form != LINES:
        return diff.form
    file = bench.files / diff.file.source
    if diff.file.kind != "binary" or not file.is_file():
        return diff.file.kind
    with FileSource(file, diff.file.path) as source:
        layout = bench.library.match_data(source)
    return layout.kind if layout is not None else diff.file.kind


def _print(bench: Workbench, diff: FileDiff, options: argparse.Namespace, context: Context) -> None:
    change = diff.file
    if change.what == "removed":
        context.print(
            f"{change.what}  {context.paint(shown(change.path), 'bold')}  {change.kind}, "
            f"{number(change.before or 0)} bytes"
        )
        return
    sizes = (
        f"{number(change.before)} -> {number(change.after)} bytes"
        if change.before is not None
        else f"{number(change.after)} bytes"
    )
    context.print(f"{change.what}  {context.paint(shown(change.path), 'bold')}  {_kind_of(bench, diff)}, {sizes}")
    if diff.fault is not None:
        said = "no longer sound data" if diff.was_sound else "not read as data, before neither"
        context.print(f"  {context.paint(said, 'red' if diff.was_sound else 'yellow')}: {shown(diff.fault.message)}")
    if options.brief:
        return
    if change.what == "changed" and diff.changes is None and _is_asset(change.kind):
        _print_asset(bench, change, context)
    elif diff.changes and diff.form != LINES:
        _print_changes(diff.changes, options.all, context)
    elif change.is_text:
        _print_lines(bench, change, options, context)


def _is_asset(kind: str) -> bool:
    return kind_of_type(kind) is not None or kind == "binary"


def _print_asset(bench: Workbench, change: FileChange, context: Context) -> None:
    """What of a picture, sound, movie, model differs."""
    from volvex.bench.assets import pair_of

    pair = pair_of(bench, change)
    if pair is None:
        return
    kind, before, after = pair
    try:
        for line in kind.differences(before, after):
            context.print(f"  {shown(line)}")
    except VolvexError as error:
        context.print(f"  {context.paint(shown(error.message), 'red')}")


def _draw(bench: Workbench, found: list[FileChange], options: argparse.Namespace, context: Context) -> None:
    """Draw the changed pictures side by side, each before and after, one below the other."""
    from volvex.asset.picture.compare import stacked
    from volvex.bench.assets import pair_of

    rows = []
    for change in found:
        pair = pair_of(bench, change)
        drawing = pair[0].compared(pair[1], pair[2], change.path) if pair is not None else None
        if drawing is not None:
            rows.append(drawing)
    if not rows:
        raise NotFoundError("no picture or model has changed", "`volvex changes` to see what has")
    with new_file(context.disk, options.to, options.overwrite) as out:
        stacked(rows).save(out, "PNG")
    context.print(f"{shown(str(options.to))}: {count(len(rows), 'picture')}")


def _print_changes(found: list[DataChange], every: bool, context: Context) -> None:
    for change in found if every else found[:A_FILE]:
        context.print(f"  {change_line(change, context)}")
    if len(found) > A_FILE and not every:
        context.print(f"  and {count(len(found) - A_FILE, 'more change')}: --all shows them")


def _print_lines(bench: Workbench, change: FileChange, options: argparse.Namespace, context: Context) -> None:
    told = list(lines(bench, change))
    for line in told if options.all else told[:A_FILE]:
        context.print(
            context.paint(
                f"  {line.number:>5} {line.sign} {shown(line.text.expandtabs(4))}",
                "red" if line.sign == "-" else "green",
            )
        )
    if len(told) > A_FILE and not options.all:
        context.print(f"        and {count(len(told) - A_FILE, 'more line')}: --all shows them")
