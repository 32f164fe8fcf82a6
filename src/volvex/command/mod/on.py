"""Turn mods on; the game changes with the next install."""

from __future__ import annotations

import argparse

from volvex.command.ui.context import Context
from volvex.command.ui.mods import add_game, open_library
from volvex.errors import Status

PRIORITY = 46
EXAMPLES = ("volvex mod on bright-lamps",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("mod", nargs="+", metavar="MOD", help="the id of a mod in the library")
    add_game(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_library(options, context) as library:
        changed = library.turn(options.mod, True)
    for name in options.mod:
        context.print(f"{name}: on" + ("" if name in changed else " already"))
    context.print(context.paint("next: volvex install", "dim"))
    return Status.OK
