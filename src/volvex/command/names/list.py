"""List the dictionaries, with their number of names and game."""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.reader import bench_of
from volvex.command.ui.table import Column, count, numbers, print_table
from volvex.errors import Status

PRIORITY = 62
EXAMPLES = ("volvex names list",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--bench", type=Path, metavar="DIR", help="the bench (default: the current folder or one above it)"
    )
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    bench = bench_of(options, context)
    found = context.dictionaries().dictionaries
    whom = [
        dictionary.game
        or ("this bench" if bench is not None and dictionary.path.is_relative_to(bench) else "all games")
        for dictionary in found
    ]
    sizes = [len(dictionary) for dictionary in found]
    if options.json:
        context.json(
            {"path": dictionary.path.as_posix(), "names": size, "for": game}
            for dictionary, size, game in zip(found, sizes, whom, strict=True)
        )
        return Status.OK
    print_table(
        context,
        [
            Column("names", numbers(sizes), right=True),
            Column("for", whom),
            Column("dictionary", [shown(dictionary.path.as_posix()) for dictionary in found], style="blue"),
        ],
    )
    context.print(
        context.paint(f"{count(sum(sizes), 'name')} in {count(len(found), 'dictionary', 'dictionaries')}", "dim")
    )
    return Status.OK
