"""Convert tables, texts and scenes to open formats and back.

CSV, TSV, XLSX and JSON, and PO and XLIFF for texts. Back it goes with --like, the file it was made from: everything that the open format cannot hold comes from there. Every
value is checked, and every fault is reported with row, column, value and what is allowed; nothing is written unless all
values are valid. In a bench, `volvex take PATH --as csv` does both steps.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.reader import add_reading, content_at, open_walker
from volvex.command.ui.table import count, number
from volvex.data import require_data
from volvex.data.exchange import Wanted, exported, imported
from volvex.data.verify import edited
from volvex.errors import NotFoundError, Status
from volvex.source.outputs import Outputs, new_file

PRIORITY = 22
EXAMPLES = (
    "volvex convert game/data/almanac.kwp/tables/lenses.kwb lenses.csv",
    "volvex convert lenses.csv lenses.kwb --like game/data/almanac.kwp/tables/lenses.kwb",
    "volvex convert game/data/almanac.kwp/texts/menu.kwx menu.po --language de",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", metavar="FROM", help="an entry or file of data; with --like, a file in an open format")
    parser.add_argument("target", metavar="TO", type=Path, help="the new file: .csv .tsv .xlsx .json .po .xlf")
    parser.add_argument("--like", metavar="PATH", help="the entry or file that FROM was made from")
    parser.add_argument("--sheet", metavar="NAME", help="the sheet, when the file has several: lamps")
    parser.add_argument("--row", metavar="ID", help="only this record (JSON)")
    parser.add_argument("--language", metavar="L", help="for texts: this language beside the source language")
    parser.add_argument(
        "--source-language", metavar="L", help="the language that is translated from (default: the first)"
    )
    add_reading(parser)
    parser.add_argument("--overwrite", action="store_true", help="replace a file that is there")


def run(options: argparse.Namespace, context: Context) -> int:
    Outputs(context.disk, options.overwrite).check(options.target)
    wanted = Wanted(options.sheet, options.row, options.language, options.source_language)
    with open_walker(options, context) as walker:
        content = content_at(options.like or options.path, walker, context)
        try:
            document = require_data(content.source.read(0, content.source.size), walker.library, content.path)
        finally:
            content.source.close()
    if options.like:
        return _back(options, context, document, wanted)
    data = exported(options.target.suffix, document, wanted)
    _write(options, data, context)
    records = sum(len(sheet) for sheet in document.sheets)
    context.print(f"{shown(str(options.target))}: {count(records, 'record')}, {number(len(data))} bytes")
    return Status.OK


def _back(options: argparse.Namespace, context: Context, document, wanted: Wanted) -> int:  # type: ignore[no-untyped-def]
    source = Path(options.path)
    if not source.is_file():
        raise NotFoundError(f"there is no file {source}")
    incoming = imported(source.suffix, source.read_bytes(), document, wanted, str(source))
    data = edited(document, incoming.changes)
    _write(options, data, context)
    for note in incoming.notes:
        context.note(f"note: {note}")
    context.print(f"{shown(str(options.target))}: {count(len(incoming.changes), 'change')}, {number(len(data))} bytes")
    return Status.OK


def _write(options: argparse.Namespace, data: bytes, context: Context) -> None:
    with new_file(context.disk, options.target, options.overwrite) as out:
        context.disk.write(out, data)
