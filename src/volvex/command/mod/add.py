"""Add mods to the library, and turn them on.

The library is in Volvex's own folder; the game changes with the next `volvex install`.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.bench.game_description import UNKNOWN
from volvex.command.ui.bench import open_game
from volvex.command.ui.context import Context
from volvex.command.ui.mods import add_game, open_library, part_counts
from volvex.errors import Status

PRIORITY = 44
WRITES = True
INPUTS = ("mod",)
EXAMPLES = ("volvex mod add ../bright-lamps.zip",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("mod", nargs="+", type=Path, metavar="MOD", help="a mod's folder or ZIP")
    parser.add_argument("--overwrite", action="store_true", help="replace a mod with the same id")
    parser.add_argument("--anyway", action="store_true", help="also add a mod that is for another game")
    add_game(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_library(options, context) as library:
        game = open_game(library.game, context)
        described = game.description.name if game.description is not UNKNOWN else ""
        for source in options.mod:
            mod, before = library.add(source, game, described, options.overwrite, options.anyway)
            said = f"replaces {before}" if before else "added"
            context.print(f"{mod.id} {mod.descriptor.version}: {said}, on; {part_counts(mod)}")
    context.tip("next: `volvex install`")
    return Status.OK
