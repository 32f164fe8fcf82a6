"""Explain every byte of a file: fields, values, unexplained bytes."""

from __future__ import annotations

import argparse
from collections.abc import Iterator

from volvex.archive import LayoutArchive, Walker
from volvex.archive.safe_names import quoted, shown
from volvex.command.ui.context import Context
from volvex.command.ui.data import laid_out
from volvex.command.ui.faults import note_faults
from volvex.command.ui.reader import add_reading, open_walker
from volvex.command.ui.table import Column, count, number, percent, print_table
from volvex.errors import NotFoundError, UsageError
from volvex.layout.inspect.coverage import Coverage, coverage, stretches
from volvex.layout.inspect.stretch import Stretch
from volvex.layout.read.blocks import Reading

PRIORITY = 52
INPUTS = ("path",)
EXAMPLES = (
    "volvex layout explain game/data/main.kwp",
    "volvex layout explain game/isles/journals.kwj --limit 1",
)
RECORDS, CONTENTS = 2, 6


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "path", nargs="+", metavar="PATH", help="an archive, a table, texts or a scene; a folder means all below it"
    )
    parser.add_argument(
        "--limit",
        type=int,
        default=RECORDS,
        metavar="N",
        help=f"number of records to show of each table (default: {RECORDS})",
    )
    parser.add_argument("--all", action="store_true", help="show every record, content and padding")
    add_reading(parser)
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    records: list[dict[str, object]] = []
    with open_walker(options, context) as walker:
        for path in options.path:
            for name, reading, title in _readings(path, walker, context):
                if options.json:
                    records += [
                        _record(name, stretch) for stretch in stretches(reading, None if options.all else options.limit)
                    ]
                else:
                    _explain(name, reading, title, options, context)
        status = note_faults(walker.faults, context)
    if options.json:
        context.json(records)
    return status


def _readings(path: str, walker: Walker, context: Context) -> Iterator[tuple[str, Reading, str]]:
    """All that a layout reads of what a path means: what it is called, as it was read, and the layout's title."""
    data = laid_out(path, walker, context)
    if data is not None:
        yield data.file, data.reading, data.layout.title
        return
    found = walker.find(path, deep=True)
    archives = [group for group in found.groups if isinstance(group.archive, LayoutArchive)]
    for group in archives:
        assert isinstance(group.archive, LayoutArchive)
        yield group.archive_path, group.archive.reading, group.archive.layout.title
    several = [data for name, _ in found.files if (data := laid_out(name, walker, context)) is not None]
    yield from ((data.file, data.reading, data.layout.title) for data in several)
    if archives or several:
        return
    other = next((group for group in found.groups), None)
    if other is not None:
        raise UsageError(
            f"{shown(other.archive_path)} is {other.archive.called}: a driver opens it, not a layout, so there is "
            f"none to explain",
            f"`volvex list {quoted(other.archive_path)} --long`, or `volvex identify {quoted(other.archive_path)}`",
        )
    if walker.faults:
        raise walker.faults.pop()
    raise NotFoundError(f"unknown format: {shown(path)}", "--layout LAYOUT")


def _explain(path: str, reading: Reading, title: str, options: argparse.Namespace, context: Context) -> None:
    found = stretches(reading, None if options.all else options.limit)
    _print(list(found), options.all, context)
    _summary(path, title, coverage(reading), context)


def _record(path: str, stretch: Stretch) -> dict[str, object]:
    return {
        "path": path,
        "within": stretch.within,
        "start": stretch.start,
        "size": stretch.size,
        "what": stretch.what,
        "name": stretch.name,
        "type": stretch.shape,
        "value": stretch.value,
        "meaning": stretch.meaning,
    }


def _print(found: list[Stretch], every: bool, context: Context) -> None:
    shown_ones = found if every else _fold(found)
    print_table(
        context,
        [
            Column(
                "offset",
                [f"+{stretch.start:#x}" if stretch.within else f"{stretch.start:#x}" for stretch in shown_ones],
                right=True,
            ),
            Column(
                "bytes",
                ["" if stretch.what in ("bits", "inside") else number(stretch.size) for stretch in shown_ones],
                right=True,
            ),
            Column(
                "field",
                [
                    ("  " if stretch.within or stretch.what in ("bits", "inside") else "") + shown(stretch.name)
                    for stretch in shown_ones
                ],
                style="blue",
                path=True,
            ),
            Column("type", [stretch.shape for stretch in shown_ones]),
            Column(
                "value",
                [
                    shown(stretch.value if len(stretch.value) <= 36 else stretch.value[:35] + "…")
                    for stretch in shown_ones
                ],
                style="cyan",
            ),
            Column("meaning", [stretch.meaning for stretch in shown_ones]),
        ],
        cut=True,
    )


def _fold(found: list[Stretch]) -> list[Stretch]:
    """Long rows of contents and padding as one line each."""
    out: list[Stretch] = []
    run_of: list[Stretch] = []
    for stretch in [*found, None]:
        if stretch is not None and stretch.what in ("content", "padding"):
            run_of.append(stretch)
            continue
        contents = [item for item in run_of if item.what == "content"]
        if len(contents) <= CONTENTS:
            out += run_of
        else:
            out += run_of[:CONTENTS]
            rest = run_of[CONTENTS:]
            size = rest[-1].start + rest[-1].size - rest[0].start
            number_of = sum(item.what == "content" for item in rest)
            out.append(
                Stretch(
                    rest[0].start,
                    size,
                    "content",
                    f"and {number_of:,} more contents",
                    meaning="with the padding between them",
                )
            )
        run_of = []
        if stretch is not None:
            out.append(stretch)
    return out


def _summary(path: str, title: str, coverage: Coverage, context: Context) -> None:
    explained = coverage.size - sum(stretch.size for stretch in coverage.unexplained if not stretch.within)
    context.print()
    context.print(
        f'{shown(path)} by "{title}": {number(coverage.size)} bytes, {percent(explained, coverage.size)} explained'
    )
    context.print(
        f"  fields {number(coverage.fields)} (of them {number(coverage.kept)} unknown, preserved), "
        f"content {number(coverage.content)}, padding {number(coverage.padding)}"
    )
    if not coverage.unexplained:
        context.print("  no field is missing: every byte is explained")
        return
    size = sum(stretch.size for stretch in coverage.unexplained)
    said = context.paint(f"no field explains {count(size, 'byte')}", "yellow")
    context.print(f"  {said}, in {count(len(coverage.unexplained), 'place')}; they are preserved:")
    for stretch in coverage.unexplained[:10]:
        where = f"+{stretch.start:#x} in {stretch.within}" if stretch.within else f"{stretch.start:#x}"
        context.print(f"    {where}  {count(stretch.size, 'byte')}  {stretch.value}")
    if len(coverage.unexplained) > 10:
        context.print(f"    and {len(coverage.unexplained) - 10:,} more places: --all shows them")
