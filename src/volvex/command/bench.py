"""Make a bench: a folder for changing one game.

The bench contains fingerprints of the game's archives and no copies. `volvex take` puts into it what you want to change. The
game's folder is not written to until `volvex install`.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.bench import Workbench
from volvex.command.ui.bench import open_game
from volvex.command.ui.context import Context
from volvex.command.ui.games import name_game
from volvex.command.ui.reader import add_layout, bench_library, remember_layouts, tie_patterns
from volvex.command.ui.table import count
from volvex.errors import Status

PRIORITY = 30
EXAMPLES = (
    "volvex bench game",
    "volvex bench game my-mod",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("game", type=Path, metavar="GAME", help="the game's folder")
    parser.add_argument(
        "dir", type=Path, nargs="?", metavar="DIR", help="the bench's folder (default: GAME-bench, here)"
    )
    add_layout(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    game = open_game(options.game, context)
    folder = options.dir or Path(f"{game.folder.name}-bench")
    library = context.library()
    ties = bench_library(library, game.folder, {}, context)
    tie_patterns(options, ties, game.folder)
    with Workbench.create(folder, game, library, context.disk) as bench:
        remember_layouts(options, bench, ties, context)
        name_game(game.folder, context)
    context.print(
        f"{folder} is a bench for {game.folder} ({game.description.name}): {count(len(bench.fingerprints), 'archive')}"
    )
    context.print(context.paint(f"next: cd {folder}, then volvex take PATH, with paths as in the game", "dim"))
    return Status.OK
