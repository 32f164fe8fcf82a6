"""Show a game pack: description, layouts, lists of names."""

from __future__ import annotations

import argparse

from volvex.archive.safe_names import shown
from volvex.bench.game_description import read_game_description
from volvex.command.ui.context import Context
from volvex.errors import Status
from volvex.names.game_pack import DESCRIPTION, pack_named

PRIORITY = 56
EXAMPLES = ("volvex games show kelpwick",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="PACK", help="the pack's name")


def run(options: argparse.Namespace, context: Context) -> int:
    pack = pack_named(context.home, options.name)
    description = read_game_description(pack.folder / DESCRIPTION)
    context.print(f"{context.paint(shown(description.name), 'bold')}  {pack.folder}")
    rows = (
        ("known by", description.known),
        ("its own files", description.own),
        ("takes changes", description.takes),
        ("log", (description.log,)),
        ("start", (" ".join(description.start),)),
        ("keys", tuple(f"{pattern}: {key}" for pattern, key in description.keys.items())),
        ("layouts", pack.layouts),
        ("names", pack.names),
        ("texts", pack.others),
    )
    context.account(path=str(pack.folder), name=description.name, **{title: list(values) for title, values in rows})
    for title, values in rows:
        if any(values):
            context.print(f"  {title.ljust(14)} {shown(', '.join(values))}")
    return Status.OK
