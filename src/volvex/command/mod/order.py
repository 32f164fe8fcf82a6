"""Change the order of mods.

A later mod may change a value that an earlier one made. The mods that are named take the places that they have among
all, in the order in which they are named.
"""

from __future__ import annotations

import argparse

from volvex.command.ui.context import Context
from volvex.command.ui.mods import add_game, open_library
from volvex.errors import Status

PRIORITY = 46
WRITES = True
EXAMPLES = ("volvex mod order bright-lamps",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("mod", nargs="+", metavar="MOD", help="ids of mods, in the order that they should have")
    add_game(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_library(options, context) as library:
        library.order(options.mod)
        for place, entry in enumerate(library.entries, 1):
            context.print(f"{place:>4}  {'on ' if entry.on else 'off'}  {context.paint(entry.id, 'cyan')}")
    return Status.OK
