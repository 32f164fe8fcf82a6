"""Compare two archives, files, folders, or game and mod.

    changed  data/main.kwp/rules/lamps.xml
      lamp: row harbour_2: range 4 -> 15

Two game folders, two archives or two files of data are compared by entry, and where the format is known by id, field or
line. With a game's folder and a mod (a folder or ZIP), the game is compared with what this mod alone makes of it.
Stored bytes are compared first, so the time depends on what differs.
"""

from __future__ import annotations

import argparse
import contextlib
import functools
import tempfile
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

from volvex.archive.safe_names import shown
from volvex.archive.transfer.compare import Content, Difference, compare_files, compare_folders
from volvex.archive.transfer.rebuild import file_chunks
from volvex.bench.workbench import Workbench
from volvex.command.ui.context import Context
from volvex.command.ui.data import change_line
from volvex.command.ui.mods import library_of, mod_named, open_staging, print_conflicts
from volvex.command.ui.on_disk import on_disk
from volvex.command.ui.reader import add_reading, bench_library, tie_patterns
from volvex.command.ui.table import count, number
from volvex.data.differences import plain
from volvex.errors import Status, UsageError, VolvexError
from volvex.layout import Library
from volvex.mods.combine.conflict import Decisions
from volvex.mods.combine.files import Combined, combine
from volvex.mods.mod.content import FieldChanges, LineChanges
from volvex.mods.mod.folder import DESCRIPTOR
from volvex.mods.mod.make import LARGEST, between
from volvex.mods.mod.package import is_mod

PRIORITY = 16
INPUTS = ("old", "new")
EXAMPLES = (
    "volvex compare game game --brief",
    "volvex compare game/canvas/fog.dds logo.dds",
)
STATUSES = {Status.DIFFERS: "they differ"}
A_FILE = 40  # lines shown of one file


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "old",
        type=Path,
        metavar="OLD",
        help="an archive, a file, a folder or a mod; also a path in an archive, on a bench one in the game",
    )
    parser.add_argument(
        "new", type=Path, metavar="NEW", help="another one of the same kind; or a game's folder and a mod"
    )
    parser.add_argument("--brief", action="store_true", help="show files only")
    parser.add_argument("--all", action="store_true", help=f"show every line, not only the first {A_FILE} of a file")
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")
    add_reading(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with contextlib.ExitStack() as stack:
        for which in ("old", "new"):
            folder = stack.enter_context(tempfile.TemporaryDirectory(prefix="volvex-compare-"))
            setattr(options, which, on_disk(getattr(options, which), options, context, Path(folder)))
        return _compare(options, context)


def _compare(options: argparse.Namespace, context: Context) -> int:
    mod = _mod_among(options)
    if mod is None and options.old.is_dir() != options.new.is_dir():
        raise UsageError("a folder and a file cannot be compared", "two folders, or two files")
    library = context.library()
    if mod is None:
        ties = bench_library(library, options.old if options.old.is_dir() else options.old.parent, {}, context)
        tie_patterns(options, ties, context.cwd)
        return _report(_differences(options, library), library, options, context)
    folder = options.new if mod == options.old else options.old
    with (
        mod_named(str(mod), options, context) as found,
        library_of(folder, context) as mods,
        open_staging(mods, context, "compare") as bench,
    ):
        made = combine(bench, [found], Decisions({}))
        if made.conflicts:
            print_conflicts(made.conflicts, context)
        differences = (_of_mod(bench, combined) for combined in made.files)
        return max(
            _report(differences, bench.library, options, context), Status.DIFFERS if made.conflicts else Status.OK
        )


def _mod_among(options: argparse.Namespace) -> Path | None:
    """The one of the two that is a mod, when the other is a folder."""
    for one, other in ((options.new, options.old), (options.old, options.new)):
        if other.is_dir() and not (other / DESCRIPTOR).is_file() and is_mod(one):
            return Path(one)
    return None


def _of_mod(bench: Workbench, combined: Combined) -> Difference:
    """What a mod makes of a path."""
    before = bench.original_size(combined.path)
    old = None if before is None else Content(before, functools.partial(bench.original_content, combined.path))
    if combined.removed:
        return Difference(combined.path, old, None)
    if combined.data is not None:
        return Difference(combined.path, old, Content(len(combined.data), lambda: iter([combined.data or b""])))
    file = combined.file
    assert file is not None
    return Difference(combined.path, old, Content(file.stat().st_size, lambda: file_chunks(file)))


def _report(differences: Iterable[Difference], library: Library, options: argparse.Namespace, context: Context) -> int:
    """Print what differs; the exit status."""
    records: list[dict[str, Any]] = []
    found = 0
    for difference in differences:
        found += 1
        part = None if options.brief else _part(difference, library)
        if options.json:
            records.append(_record(difference, part))
        else:
            _print(difference, part, options.all, context)
    if options.json:
        context.json(records)
    else:
        context.print(
            context.paint(
                f"{count(found, 'file')} differ{'s' if found == 1 else ''}" if found else "no differences", "dim"
            )
        )
    return Status.DIFFERS if found else Status.OK


def _differences(options: argparse.Namespace, library: Library) -> Iterator[Difference]:
    if options.old.is_dir():
        return compare_folders(options.old, options.new, library)
    return compare_files(options.new.name, options.old, options.new, library)


def _part(difference: Difference, library: Library) -> FieldChanges | LineChanges | None:
    """The change by field or line, where it can be told so."""
    if difference.old is None or difference.new is None or max(difference.old.size, difference.new.size) > LARGEST:
        return None
    try:
        return between(difference.path, difference.old.bytes(), difference.new.bytes(), library)
    except VolvexError:  # locked or damaged: that it differs is all there is to say
        return None


def _what(difference: Difference) -> str:
    return "added" if difference.old is None else "removed" if difference.new is None else "changed"


def _print(difference: Difference, part: FieldChanges | LineChanges | None, every: bool, context: Context) -> None:
    sizes = " -> ".join(number(side.size) for side in (difference.old, difference.new) if side is not None)
    context.print(f"{_what(difference)}  {context.paint(shown(difference.path), 'bold')}  {sizes} bytes")
    if part is None:
        return
    if isinstance(part, FieldChanges):
        lines = [change_line(change, context) for change in part.changes]
    else:
        lines = [
            context.paint(f"{hunk.start:>5} {sign} {shown(line)}", colour)
            for hunk in part.hunks
            for sign, colour, those in (("-", "red", hunk.old), ("+", "green", hunk.new))
            for line in those
        ]
    for line in lines if every else lines[:A_FILE]:
        context.print(f"  {line}")
    if len(lines) > A_FILE and not every:
        context.print(f"  and {count(len(lines) - A_FILE, 'more line')}: --all shows them")


def _record(difference: Difference, part: FieldChanges | LineChanges | None) -> dict[str, Any]:
    record: dict[str, Any] = {
        "path": difference.path,
        "what": _what(difference),
        "before": difference.old.size if difference.old else None,
        "after": difference.new.size if difference.new else None,
    }
    if isinstance(part, FieldChanges):
        record["changes"] = [plain(change) for change in part.changes]
    elif isinstance(part, LineChanges):
        record["lines"] = [{"line": hunk.start, "old": hunk.old, "new": hunk.new} for hunk in part.hunks]
    return record
