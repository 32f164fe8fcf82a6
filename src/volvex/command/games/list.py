"""List the game packs: yours and those that ship."""

from __future__ import annotations

import argparse

from volvex.bench.game_description import read_game_description
from volvex.command.ui.context import Context
from volvex.command.ui.table import Column, numbers, print_table
from volvex.errors import Status
from volvex.names.game_pack import DESCRIPTION, packs

PRIORITY = 56
EXAMPLES = ("volvex games list",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    found = packs(context.home)
    titles = [read_game_description(one.folder / DESCRIPTION).name for one in found]
    if options.json:
        context.json({"pack": one.name, "game": title, "ships": one.ships, "layouts": len(one.layouts), "names": len(one.names)}
                     for one, title in zip(found, titles, strict=True))  # fmt: skip
        return Status.OK
    print_table(context, [
        Column("pack", [one.name for one in found], style="cyan"),
        Column("", ["ships" if one.ships else "yours" for one in found]),
        Column("layouts", numbers(len(one.layouts) for one in found), right=True),
        Column("lists of names", numbers(len(one.names) for one in found), right=True),
        Column("game", titles),
    ], cut=True)  # fmt: skip
    return Status.OK
