"""Check a game pack: description, layouts, lists of names.

A pack contains `game.toml`, layouts, lists of names in `names`, and texts; nothing else, and never a key.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.bench.game_description import missing_templates, read_game_description
from volvex.command.ui.context import Context
from volvex.command.ui.table import count
from volvex.errors import Status
from volvex.names.game_pack import DESCRIPTION, faults_of, pack_in, pack_named

PRIORITY = 57
EXAMPLES = ("volvex games check kelpwick",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("pack", metavar="PACK", help="the pack's name or folder")


def run(options: argparse.Namespace, context: Context) -> int:
    folder = Path(options.pack)
    pack = pack_in(folder) if (folder / DESCRIPTION).is_file() else pack_named(context.home, options.pack)
    description = read_game_description(pack.folder / DESCRIPTION)
    faults = faults_of(pack) + missing_templates(description)
    for fault in faults:
        context.account(path=str(pack.folder), fault=" ".join(fault.lines(True)))
        context.complain("\n".join(fault.lines(True)))
    if faults:
        return Status.BAD_DATA
    context.print(
        f"{description.name}: no faults, {count(len(pack.layouts), 'layout')}, {count(len(pack.names), 'list')} of "
        f"names"
    )
    return Status.OK
