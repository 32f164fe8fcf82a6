"""Turn mods on; the game changes with the next install."""

from __future__ import annotations

import argparse

from volvex.command.ui.context import Context
from volvex.command.ui.mods import add_game, turn
from volvex.errors import Status

PRIORITY = 46
WRITES = True
EXAMPLES = ("volvex mod on bright-lamps",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("mod", nargs="+", metavar="MOD", help="the id of a mod in the library")
    add_game(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    turn(options, context, True)
    return Status.OK
