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
    titles = [read_game_description(pack.folder / DESCRIPTION).name for pack in found]
    if options.json:
        context.json(
            {
                "pack": pack.name,
                "game": title,
                "ships": pack.ships,
                "layouts": len(pack.layouts),
                "names": len(pack.names),
            }
            for pack, title in zip(found, titles, strict=True)
        )
        return Status.OK
    print_table(
        context,
        [
            Column("pack", [pack.name for pack in found], style="cyan"),
            Column("", ["ships" if pack.ships else "yours" for pack in found]),
            Column("layouts", numbers(len(pack.layouts) for pack in found), right=True),
            Column("lists of names", numbers(len(pack.names) for pack in found), right=True),
            Column("game", titles),
        ],
        cut=True,
    )
    return Status.OK
