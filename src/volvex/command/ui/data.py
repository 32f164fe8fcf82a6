"""How data is shown: tables with chosen columns, trees folded to a depth, records with those to which they refer."""

from __future__ import annotations

import argparse
import contextlib
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.games import game_description
from volvex.command.ui.table import Column, count, print_table
from volvex.data import Change, Document, Sheet
from volvex.data.edit import Target, chosen, found_row
from volvex.data.model.sheet import FLOAT, INT
from volvex.data.outline import Branch, branch_at, outline
from volvex.data.references import Catalogue, Found, User, follow, users
from volvex.errors import NotFoundError, UsageError, VolvexError

if TYPE_CHECKING:
    from volvex.archive import Walker
    from volvex.data.model.layout_document import LayoutDocument

LARGEST = 1 << 30  # bytes of a file that is read whole
PAGE = 40  # records shown into a pipe, and on a terminal that does not tell its height
CELL = 48  # characters shown of a cell among others
BRANCHES = 30  # shown of one branch
ASKED = ("columns", "where", "sort", "sheet", "row", "follow", "users", "depth", "limit")


def add_data_options(parser: argparse.ArgumentParser) -> None:
    """Options of what is shown of data."""
    data = parser.add_argument_group("of data: tables, texts, scenes, XML, JSON, CSV, INI files")
    data.add_argument("--columns", metavar="A,B", help="show these columns, in this order")
    data.add_argument("--where", metavar="CONDITION", help="show records that match: \"fuel == 'oil' and range > 9\"")
    data.add_argument("--sort", metavar="FIELD", help="sort by this field")
    data.add_argument("--reverse", action="store_true", help="sort in descending order")
    data.add_argument(
        "--limit", type=int, metavar="N", help=f"number of records to show (default: one page; {PAGE} into a pipe)"
    )
    data.add_argument("--all", action="store_true", help="show every record, branch and character")
    data.add_argument("--sheet", metavar="NAME", help="the sheet, when the file has several: lamps")
    data.add_argument("--row", metavar="ID", help="show the record with this id")
    data.add_argument("--follow", action="store_true", help="with --row: also show the records it refers to")
    data.add_argument("--users", action="store_true", help="with --row: also show the records that refer to it")
    data.add_argument("--depth", type=int, metavar="N", help="show a tree with this number of levels")


def wants_data(options: argparse.Namespace) -> bool:
    """Whether anything was asked that only data has."""
    at = options.at is not None and not _is_number(options.at)
    return at or any(getattr(options, name) is not None and getattr(options, name) is not False for name in ASKED)


def _is_number(text: str) -> bool:
    with contextlib.suppress(ValueError):
        int(text, 0)
        return True
    return False


def show_data(
    document: Document,
    path: str,
    options: argparse.Namespace,
    context: Context,
    catalogue: Callable[[], tuple[Catalogue, str]],
) -> None:
    """Show a document in the way that was asked for, or that suits it."""
    if options.row is not None:
        _show_record(document, options, context, catalogue)
    elif options.follow or options.users:
        raise UsageError("--follow and --users need a record", "--row ID")
    elif (
        options.depth is not None
        or (options.at is not None and options.where is None)
        or (document.form == "scene" and not any((options.where, options.columns, options.sort, options.sheet)))
    ):
        _show_tree(document, options, context)
    else:
        _show_table(document, path, options, context)


# tables


def _show_table(document: Document, path: str, options: argparse.Namespace, context: Context) -> None:
    target = Target(where=options.where, sheet=options.sheet)
    if options.where is None and options.sheet is None and len(document.sheets) > 1:
        _list_sheets(document, path, options, context)
        return
    sheet, rows, _ = chosen(document, target)
    if options.sort:
        order = _order(sheet.column(options.sort, document.file).values[rows])
        rows = rows[order[::-1] if options.reverse else order]
    elif options.reverse:
        rows = rows[::-1]
    names = _named(sheet, options.columns, document.file)
    page = len(rows) if options.all else options.limit or _page(context)
    values = rows[:page]
    if options.json:
        context.json(
            {name: sheet.columns[name].text(row) for name in names}
            for row in (rows if options.limit is None else values).tolist()
        )
        return
    if context.terminal:
        context.print(
            context.paint(f"{shown(path)}  {document.form} {sheet.name}, {count(len(sheet), 'record')}", "dim")
        )
    columns = [_column(sheet, name, values, options.all, context) for name in names]
    if not sheet.id and not any(
        _cells(sheet, name, values) == [sheet.ids[row] for row in values.tolist()] for name in names
    ):
        columns.insert(0, Column("id", [_cell(sheet.ids[row], options.all) for row in values.tolist()], style="dim"))
    columns, hidden = _fitting(columns, context) if not options.all and not options.columns else (columns, [])
    print_table(context, columns, cut=not options.all)
    left = len(rows) - len(values)
    text = f"{count(len(rows), 'record')}" + (f" of {len(sheet):,}" if len(rows) < len(sheet) else "")
    more = f"; {left:,} more: --all, --limit N" if left else ""
    if hidden:
        more += f"; {count(len(hidden), 'column')} left out: {shown(', '.join(hidden))} (--columns A,B)"
    if left or len(rows) < len(sheet) or context.terminal:
        context.print(context.paint(f"{text}{more}", "dim"))


def _fitting(columns: list[Column], context: Context) -> tuple[list[Column], list[str]]:
    """The columns for which a terminal's line has room, and the names of the others; at least two are shown."""
    if not context.terminal:
        return columns, []
    room, fitting = context.width, 0
    for column in columns:
        room -= column.width() + 2
        if room < -2 and fitting >= 2:
            break
        fitting += 1
    return columns[:fitting], [column.title for column in columns[fitting:]]


def _list_sheets(document: Document, path: str, options: argparse.Namespace, context: Context) -> None:
    """Several kinds of records: which, and how many."""
    if options.json:
        context.json(
            {"sheet": sheet.name, "records": len(sheet), "fields": list(sheet.columns)} for sheet in document.sheets
        )
        return
    print_table(
        context,
        [
            Column("records", [f"{len(sheet):,}" for sheet in document.sheets], right=True),
            Column("sheet", [shown(sheet.name) for sheet in document.sheets], style="blue"),
            Column("fields", [shown(", ".join(sheet.columns)) for sheet in document.sheets]),
        ],
        cut=True,
    )
    context.print(context.paint("--sheet shows one of them, --depth the tree", "dim"))


def _order(values: Any) -> Any:
    """The order in which cells ascend: numbers as numbers, texts as texts, what is not there last."""
    import numpy as np

    from volvex.data.expressions import as_numbers

    if values.dtype.kind in "iuf":
        return np.argsort(values, kind="stable")
    numbers = as_numbers(values)
    if not np.isnan(numbers[np.array([one is not None for one in values.tolist()], bool)]).any():
        return np.argsort(numbers, kind="stable")
    cells = values.tolist()
    return np.array(sorted(range(len(cells)), key=lambda at: (cells[at] is None, str(cells[at]))), np.int64)


def _named(sheet: Sheet, text: str | None, file: str) -> list[str]:
    if text is None:
        return list(dict.fromkeys([*sheet.id, *sheet.columns]))
    names = [name.strip() for name in text.split(",") if name.strip()]
    return [sheet.column(name, file).name for name in names]


def _page(context: Context) -> int:
    if not context.terminal:
        return PAGE
    import os

    with contextlib.suppress(OSError):
        return max(10, os.get_terminal_size(context.out.fileno()).lines - 5)
    return PAGE


def _column(sheet: Sheet, name: str, rows: Any, whole: bool, context: Context) -> Column:
    column = sheet.columns[name]
    cells = ["" if text is None else _cell(text, whole) for text in column.texts(rows)]
    right = column.rule.value_type in (INT, FLOAT) or (bool(cells) and all(_plain_number(cell) for cell in cells))
    style = "cyan" if name in sheet.id else "yellow" if column.rule.refers else ""
    return Column(shown(name), cells, right=right, style=style)


def _cells(sheet: Sheet, name: str, rows: Any) -> list[str | None]:
    return sheet.columns[name].texts(rows)


def _plain_number(text: str) -> bool:
    with contextlib.suppress(ValueError):
        float(text)
        return True
    return False


def _cell(text: str, whole: bool = False) -> str:
    told = shown(text)
    return told if whole or len(told) <= CELL else told[: CELL - 1] + "…"


# trees


def _show_tree(document: Document, options: argparse.Namespace, context: Context) -> None:
    branch = branch_at(document, options.at) if options.at is not None else outline(document)
    depth = options.depth if options.depth is not None else 2
    if options.json:
        context.json([_branch_record(branch, depth)])
        return
    for line in _branch_lines(branch, depth, options.all, context, "", ""):
        context.print(line)


def _branch_record(branch: Branch, depth: int) -> dict[str, object]:
    record: dict[str, object] = {
        "name": branch.name,
        "place": branch.place,
        "about": branch.about,
        "count": branch.count,
    }
    return record | ({"below": [_branch_record(branch, depth - 1) for branch in branch.below()]} if depth > 0 else {})


def _branch_lines(
    branch: Branch, depth: int, every: bool, context: Context, before: str, further: str
) -> Iterator[str]:
    folded = f"({branch.count:,} in it)" if branch.count and depth <= 0 else ""
    about = shown(branch.about)
    room = max(30, context.width - len(further) - len(branch.name) - len(folded) - 6)
    about = about if every or len(about) <= room else about[: room - 1] + "…"
    name = context.paint(shown(branch.name), "blue" if branch.count else "cyan")
    yield context.paint(before, "dim") + "  ".join(text for text in (name, about, context.paint(folded, "dim")) if text)
    if depth <= 0:
        return
    below = branch.below()
    branches = below if every or len(below) <= BRANCHES else below[:BRANCHES]
    for place, one in enumerate(branches):
        last = place == len(below) - 1
        yield from _branch_lines(
            one, depth - 1, every, context, further + ("└─ " if last else "├─ "), further + ("   " if last else "│  ")
        )
    if len(branches) < len(below):
        yield context.paint(f"{further}└─ and {len(below) - len(branches):,} more: --all", "dim")


# records


def _show_record(
    document: Document, options: argparse.Namespace, context: Context, catalogue: Callable[[], tuple[Catalogue, str]]
) -> None:
    sheet, row = found_row(document, options.row, options.sheet)
    if not options.follow and not options.users:
        _print_record(Found(document.file, sheet, row), options, context, "")
        return
    known, place = catalogue()
    known.put(place, document)
    found = follow(known, place, sheet, row) if options.follow else Found(place, sheet, row)
    if options.json:
        context.json(
            [_found_record(found) | ({"users": [vars(user) for user in _users(known, found)]} if options.users else {})]
        )
        return
    _print_found(found, options, context, "")
    if options.users:
        _print_users(list(_users(known, found)), found, context)


def _users(catalogue: Catalogue, found: Found) -> Iterator[User]:
    return users(catalogue, found.path, found.sheet, [found.sheet.ids[found.row]])


def _found_record(found: Found) -> dict[str, Any]:
    record: dict[str, Any] = {
        "path": found.path,
        "sheet": found.sheet.name,
        "id": found.sheet.ids[found.row],
        "fields": found.sheet.record(found.row),
    }
    if found.by:
        record["by"] = found.by
    record["missing"] = [{"field": field, "id": row_id} for field, row_id in found.missing]
    return record | {"refers to": [_found_record(found) for found in found.below]}


def _print_found(found: Found, options: argparse.Namespace, context: Context, indent: str) -> None:
    _print_record(found, options, context, indent)
    for field, key in found.missing:
        context.print(f"{indent}    {context.paint(f'{field} {shown(key)}: there is no such record', 'red')}")
    for one in found.below:
        _print_found(one, options, context, indent + "    ")


def _print_record(found: Found, options: argparse.Namespace, context: Context, indent: str) -> None:
    sheet, record = found.sheet, found.sheet.record(found.row)
    if options.json and not indent and not options.follow and not options.users:
        context.json([record])
        return
    by = f"{context.paint(found.by, 'yellow')} -> " if found.by else ""
    title = context.paint(f"{shown(sheet.name)} {shown(sheet.ids[found.row])}", "bold")
    again = context.paint("  (shown above)", "dim") if found.again else ""
    context.print(f"{indent}{by}{title}  {context.paint(shown(found.path), 'dim')}{again}")
    if found.again:
        return
    names = _named(sheet, options.columns, found.path) if options.columns and not found.by else list(record)
    width = max(map(len, names), default=0)
    for name in names:
        refers = name in {found.by for found in found.below} or bool(sheet.columns[name].rule.refers)
        value = shown(record.get(name, ""))
        room = max(30, context.width - len(indent) - width - 6)
        value = value if options.all or len(value) <= room else value[: room - 1] + "…"
        context.print(f"{indent}  {shown(name).ljust(width)}  {context.paint(value, 'yellow') if refers else value}")


def _print_users(found: Sequence[User], record: Found, context: Context) -> None:
    key = record.sheet.ids[record.row]
    context.print(
        context.paint(
            f"{count(len(found), 'record')} {'refers' if len(found) == 1 else 'refer'} to {shown(key)}", "dim"
        )
    )
    print_table(
        context,
        [
            Column("file", [shown(one.path) for one in found], style="blue"),
            Column("sheet", [shown(one.sheet) for one in found]),
            Column("id", [shown(one.id) for one in found], style="cyan"),
            Column("field", [shown(one.field) for one in found], style="yellow"),
        ],
    )


# changes


def change_line(change: Change, context: Context) -> str:
    """A change in a line: `lamps: row fresnel_3: range 9 -> 14`."""
    record = f"{shown(change.sheet)}: row {shown(change.id)}" if change.id else shown(change.sheet)
    if change.what == "set":
        before = "nothing" if change.before is None else _value(change.before)
        after = "nothing" if change.after is None else _value(change.after)
        return f"{record}: {shown(change.field)} {context.paint(before, 'red')} -> {context.paint(after, 'green')}"
    told = ", ".join(f"{name} {_value(text)}" for name, text in change.fields)
    if change.what == "add":
        like = f" like {shown(change.like)}" if change.like else ""
        return f"{record} {context.paint('added', 'green')}{like}: {told}"
    return f"{record} {context.paint('removed', 'red')}: {told}"


def _value(text: str) -> str:
    told = shown(text)
    return told if told and told == told.strip() else f"'{told}'"


def laid_out(path: str, walker: Walker, context: Context) -> LayoutDocument | None:
    """The table, texts or scene at a path, read by its layout; None when it is none."""
    from volvex.command.ui.reader import content_at
    from volvex.data.model.layout_document import LayoutDocument
    from volvex.data.open import open_data

    try:
        content = content_at(path, walker, context)
    except VolvexError:
        return None
    source = content.source
    try:
        if walker.library.match_data(source) is None or source.size > LARGEST:
            return None
        found = open_data(source.read(0, source.size), walker.library, content.path)
    finally:
        source.close()
    return found if isinstance(found, LayoutDocument) else None


def catalogue_of(path: str, walker: Walker, options: argparse.Namespace, context: Context) -> tuple[Catalogue, str]:
    """All data around a path: that of the bench, of its game if a description knows it, or else of its folder; and the
    path in it."""
    from volvex.bench.game import Game
    from volvex.bench.game_description import UNKNOWN
    from volvex.bench.originals import Originals
    from volvex.bench.semantic_diff import catalogues, game_catalogue
    from volvex.command.ui.bench import open_bench
    from volvex.command.ui.reader import bench_library, game_path

    inner = game_path(path, walker, context)
    if inner is not None:
        bench = open_bench(options, context)
        context.held.callback(bench.close)
        return catalogues(bench)[1], inner
    full = Path(path) if Path(path).is_absolute() else context.cwd / path
    here = next((parent for parent in full.parents if parent.is_dir()), None)
    if here is None:
        raise NotFoundError(f"there is no {shown(path)}")
    for folder in (here, *here.parents):
        description = game_description(folder, context)
        if description is not UNKNOWN:
            here = folder
            break
    else:
        description = UNKNOWN
    library = context.library()
    bench_library(library, here, {}, context)
    originals = Originals(Game(here, description), library)
    context.held.callback(originals.close)
    return game_catalogue(originals), full.resolve().relative_to(here.resolve()).as_posix()
