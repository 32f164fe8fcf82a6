"""Remove one of your game packs."""

from __future__ import annotations

import argparse

from volvex.command.ui.context import Context
from volvex.errors import Status
from volvex.names.game_pack import remove_pack

PRIORITY = 59
WRITES = True
EXAMPLES = ("volvex games remove my-kelpwick",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="PACK", help="the pack's name")


def run(options: argparse.Namespace, context: Context) -> int:
    remove_pack(context.home, options.name, context.disk)
    context.print(f"{options.name}: removed")
    return Status.OK
