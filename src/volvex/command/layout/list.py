"""List the layouts that ship and your own."""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.archive.access.paths import LAYOUTS
from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.table import Column, print_table
from volvex.errors import Status
from volvex.layout.library import SHIPPED
from volvex.layout.write.checks import unwritable

PRIORITY = 53
EXAMPLES = ("volvex layout list",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    library = context.library()
    layouts = list(library.every())
    if options.json:
        context.json(
            {"path": layout.file, "title": layout.title, "kind": layout.kind, "writable": not unwritable(layout)}
            for layout in layouts
        )
    else:
        print_table(
            context,
            [
                Column("title", [shown(layout.title) for layout in layouts], style="bold"),
                Column("kind", [layout.kind for layout in layouts]),
                Column("writes", ["no" if unwritable(layout) else "yes" for layout in layouts]),
                Column("file", [_file(layout.file) for layout in layouts]),
            ],
        )
        context.print(f"your own go into {shown(str(context.home))}, or into the folder {LAYOUTS} of a bench")
    for fault in library.faults:
        context.complain("\n".join(fault.lines()))
    return Status.BAD_DATA if library.faults else Status.OK


def _file(path: str) -> str:
    """A layout's file; of one that ships, just that."""
    ships = any(Path(path).is_relative_to(folder) for folder in SHIPPED)
    return f"ships with Volvex ({Path(path).name})" if ships else shown(path)
