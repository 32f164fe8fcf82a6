"""Remove mods from the library.

What is installed of them stays in the game until the next `volvex install`.
"""

from __future__ import annotations

import argparse

from volvex.command.ui.context import Context
from volvex.command.ui.mods import add_game, open_library
from volvex.errors import Status

PRIORITY = 48
WRITES = True
EXAMPLES = ("volvex mod remove bright-lamps",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("mod", nargs="+", metavar="MOD", help="the id of a mod in the library")
    add_game(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_library(options, context) as library:
        for name in options.mod:
            library.entry(name)
        for name in options.mod:
            library.remove(name)
            context.print(f"{name}: removed from the library")
    return Status.OK
