"""Set values by id and field; nothing else changes.

Works on tables, texts, scenes, XML, JSON, CSV and INI files. --row selects a record by id or name, --at by its place in
the tree (XML counts from 1, JSON lists from 0), --where by a condition; with --where a value is an expression. A file
that is not in the bench yet is taken. Each value is printed before and after.
"""

from __future__ import annotations

import argparse
import mmap
import re
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

from volvex.archive.access.patterns import WILD
from volvex.archive.safe_names import shown
from volvex.command.ui.bench import add_bench, note_same_content, open_bench
from volvex.command.ui.context import Context
from volvex.command.ui.data import change_line
from volvex.command.ui.reader import add_layout
from volvex.command.ui.table import count
from volvex.command.ui.variants import add_variant
from volvex.data import Change, Document, Sheet, open_data, require_data
from volvex.data.edit import Target, added, as_told, assignments, copied, matched, removed, replacements
from volvex.data.text.document import TextData
from volvex.data.verify import edited, require_edit
from volvex.errors import FormatError, NotFoundError, Status, UsageError
from volvex.source import atomic

if TYPE_CHECKING:
    from volvex.bench.workbench import Workbench

NAMESAKES = 100  # changes of which it is looked whether others of their name are there
PRIORITY = 32
EXAMPLES = (
    "volvex set data/main.kwp/rules/lamps.xml --row fresnel_3 range=14 oil=3.1",
    "volvex set data/main.kwp/rules/tides.json spring=4.6 lag/the_pans=40",
    'volvex set data/almanac.kwp/tables/lenses.kwb --where "id == 104" "fitted = fitted + 1" --plan',
    'volvex set "data/*.kwp/**" --replace Tolk Marsh --whole-words --plan',
)
MAPPED = 1 << 24  # bytes from which on a file is not read whole


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", metavar="PATH", help="a file of data, as in the game; with --replace also a pattern")
    parser.add_argument("value", nargs="*", metavar="FIELD=VALUE", help="a field, and its new value")
    which = parser.add_mutually_exclusive_group()
    which.add_argument("--row", metavar="ID", help="the record with this id or name")
    which.add_argument("--at", metavar="PLACE", help="the record at this place: lamps/lamp[3]")
    which.add_argument("--where", metavar="CONDITION", help="all records that match; values are expressions")
    parser.add_argument("--sheet", metavar="NAME", help="the sheet, when the file has several: lamps")
    what = parser.add_mutually_exclusive_group()
    what.add_argument(
        "--add", metavar="ID", help="add a record with this id; other fields are copied from the last record"
    )
    what.add_argument(
        "--copy",
        metavar="OLD=NEW",
        action="append",
        default=[],
        help="copy a record to a new id; references among the copies follow",
    )
    what.add_argument("--remove", action="store_true", help="remove the records")
    what.add_argument(
        "--replace", nargs=2, metavar=("OLD", "NEW"), help="replace text in the selected values, or in all"
    )
    parser.add_argument("--whole-words", action="store_true", help="with --replace: not inside longer words")
    parser.add_argument("--fields", metavar="A,B", default="", help="with --replace: in these fields only")
    parser.add_argument("--plan", action="store_true", help="print the changes and change nothing")
    parser.add_argument("--json", action="store_true", help="print JSON: a list of changes")
    add_variant(parser)
    add_layout(parser)
    add_bench(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    _check(options)
    with open_bench(options, context, sync_exports=True) as bench:
        path = bench.within_game(options.path, context.cwd)
        found = list(_found(bench, path, options))
        records, lines = [], list[str]()
        for place, document, changes in found:
            for change in as_told(changes, document):
                records.append({"path": place, **vars(change)})
                lines.append(f"{shown(place)}: {change_line(change, context)}")
        total = sum(len(changes) for _, _, changes in found)
        if not options.plan:
            _write(bench, found)
            note_same_content(bench, context)
    _tell(lines, options, context)
    for place, document, changes in found:
        _note_namesakes(place, document, changes, context)
    if options.json:
        context.json(records)
    elif not total:
        context.print(
            "all values are already as requested"
            if options.where is None or any(matched(document, options.where, options.sheet) for _, document, _ in found)
            else f"no record matches {shown(options.where)}"
        )
    elif options.plan:
        context.print("plan only, nothing changed")
    elif total > 1:
        context.print(context.paint(count(total, "change"), "dim"))
    return Status.OK if total else Status.DIFFERS


def _tell(lines: Sequence[str], options: argparse.Namespace, context: Context) -> None:
    for line in lines if not options.json else ():
        context.print(line)


def _note_namesakes(path: str, document: Document, changes: Sequence[Change], context: Context) -> None:
    """Say of fields that are there several times which one was changed."""
    if document.form != "ini" or len(changes) > NAMESAKES:
        return
    for change in changes:
        sheet = next((sheet for sheet in document.sheets if sheet.name == change.sheet), None)
        row = sheet.row(change.id) if sheet is not None and change.what == "set" else None
        if sheet is None or row is None:
            continue
        bare = re.sub(r"\[\d+\]$", "", change.field)
        same = [name for name in sheet.record(row) if re.fullmatch(rf"{re.escape(bare)}(\[\d+\])?", name)]
        if len(same) > 1:
            context.note(
                f"note: {shown(path)}: {shown(bare)} occurs {len(same)} times: changed {shown(change.field)}, of "
                f"{shown(', '.join(same))}"
            )


def _check(options: argparse.Namespace) -> None:
    sets = bool(options.value)
    makes = options.add is not None or options.copy
    if not sets and not makes and not options.remove and not options.replace:
        raise UsageError("no field is given", "FIELD=VALUE, --add, --copy, --remove or --replace")
    if (options.remove or options.replace) and sets:
        raise UsageError(
            f"{options.value[0]!r} goes with no --{'remove' if options.remove else 'replace'}", "one of the two"
        )
    if makes and (options.row or options.at or options.where):
        raise UsageError("--add and --copy name their records themselves", "leaving --row, --at and --where out")
    if options.remove and not (options.row or options.at or options.where):
        raise UsageError("no record is given", "--row, --at or --where")


def _paths(bench: Workbench, path: str, options: argparse.Namespace) -> list[str]:
    """The places that are meant: several only for replacing."""
    if not options.replace or not WILD.search(path):
        return [path]
    found = [bench.place_of(name, row) for name, row in bench.select(path)]
    if not found:
        raise NotFoundError(f"nothing in the game matches {shown(path)}")
    return found


def _found(
    bench: Workbench, path: str, options: argparse.Namespace
) -> Iterator[tuple[str, Document, Sequence[Change]]]:
    """What changes in each file that is meant; of many, those that hold no data are passed over."""
    paths = _paths(bench, path, options)
    for text in paths:
        if len(paths) > 1 and not _is_data(bench, text):
            continue
        document, changes = _changes(bench, text, options)
        if changes or options.where is not None:  # nothing changed or nothing matched: these are told apart
            yield text, document, changes


def _is_data(bench: Workbench, path: str) -> bool:
    try:
        return open_data(bench.current(path), bench.library, shown(path)) is not None
    except FormatError:
        return False


def _document(bench: Workbench, path: str) -> Document:
    """What something is now, as data; a large file of the bench is not read whole."""
    file = bench.files / path
    if file.is_file() and file.stat().st_size > MAPPED:
        with file.open("rb") as opened:
            return require_data(_mapped(opened), bench.library, shown(path))  # type: ignore[arg-type]
    return require_data(bench.current(path), bench.library, shown(path))


def _mapped(file: BinaryIO) -> mmap.mmap:
    return mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ)


def _changes(bench: Workbench, path: str, options: argparse.Namespace) -> tuple[Document, Sequence[Change]]:
    document = _document(bench, path)
    target = Target(options.row, options.at, options.where, options.sheet)
    if options.add is not None:
        return document, added(document, options.sheet, options.add, options.value)
    if options.copy:
        pairs = dict(_pair(one) for one in options.copy)
        return document, copied(document, pairs, options.value, options.sheet, _refers(bench, path, document))
    if options.remove:
        return document, removed(document, target)
    if options.replace:
        fields = [one.strip() for one in options.fields.split(",") if one.strip()]
        old, new = options.replace
        return document, replacements(document, target, old, new, options.whole_words, fields)
    return document, assignments(document, target, options.value)


def _refers(bench: Workbench, path: str, document: Document) -> Callable[[Sheet, str], Sequence[str]]:
    """Which sheets' ids a field holds, by its layout or the game description."""
    from volvex.data.references import Catalogue

    catalogue = Catalogue([path], lambda _: document, bench.game.description.meanings)
    return lambda sheet, field: [*catalogue.names(path, sheet, field), sheet.columns[field].rule.refers]


def _pair(text: str) -> tuple[str, str]:
    old, sign, new = text.partition("=")
    if not sign or not old or not new:
        raise UsageError(f"{text!r} is not OLD=NEW", "--copy OLD=NEW")
    return old, new


def _write(bench: Workbench, found: Sequence[tuple[str, Document, Sequence[Change]]]) -> None:
    """Write the files: all but those that are too large for it are made before the first is put in its place."""
    made = [one for one in found if one[2]]
    whole = {
        path: edited(document, changes, given=True) for path, document, changes in made if not _is_mapped(document)
    }
    for path, document, changes in sorted(made, key=lambda one: one[0] in whole):
        _, file = bench.open_for_edit(path)
        with atomic(bench.disk, file, durable=False) as out:
            for piece in (
                document.pieces(changes) if isinstance(document, TextData) and path not in whole else [whole[path]]
            ):
                bench.disk.write(out, piece)
            if path not in whole:
                out.flush()
                with Path(out.name).open("rb") as again, _mapped(again) as data:
                    require_edit(document, data, changes)  # type: ignore[arg-type]
            _let_go(document)


def _is_mapped(document: Document) -> bool:
    """Whether a file is only looked into, and written in pieces."""
    return isinstance(document, TextData) and isinstance(document.raw, mmap.mmap)


def _let_go(document: Document) -> None:
    """Close a file that was looked into, so that another can take its place."""
    for held in {id(one): one for one in (getattr(document, "raw", None), getattr(document, "data", None))}.values():
        if isinstance(held, mmap.mmap):
            held.close()
