"""Add mods to the library, and turn them on.

The library is in Volvex's own folder; the game changes with the next `volvex install`.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.bench.game import Game
from volvex.command.ui.context import Context
from volvex.command.ui.games import game_description
from volvex.command.ui.mods import add_game, names_of, open_library, part_counts
from volvex.errors import Status

PRIORITY = 44
EXAMPLES = ("volvex mod add ../bright-lamps.zip",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("mod", nargs="+", type=Path, metavar="MOD", help="a mod's folder or ZIP")
    parser.add_argument("--overwrite", action="store_true", help="replace a mod with the same id")
    parser.add_argument("--any-game", action="store_true", help="also add a mod that says it is for another game")
    add_game(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_library(options, context) as library:
        names = names_of(Game(library.game, game_description(library.game, context)))
        for source in options.mod:
            mod, before = library.add(source, names, options.overwrite, options.any_game)
            said = f"replaces {before}" if before else "added"
            context.print(f"{mod.id} {mod.descriptor.version}: {said}, on; {part_counts(mod)}")
    context.print(context.paint("next: volvex install", "dim"))
    return Status.OK
