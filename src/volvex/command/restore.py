"""Restore the original files of a game, bit for bit.

A file that changed since it was installed (a game update?) is skipped, never overwritten with an older original. Its
original is kept, and offered each time, until its bytes are back: --overwrite FILE moves the changed file into .volvex/aside
in the game's folder and puts the original in its place.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.bench.bench_file import read_description
from volvex.command.ui.bench import add_bench, bench_folder
from volvex.command.ui.context import Context
from volvex.command.ui.games import game_description
from volvex.command.ui.moves import tell
from volvex.errors import NotFoundError
from volvex.mods import installed
from volvex.mods.deploy import plan_withdraw, withdraw

PRIORITY = 41
EXAMPLES = (
    "volvex restore --plan",
    "volvex restore",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "game", nargs="?", type=Path, metavar="GAME", help="the game's folder (default: that of the bench)"
    )
    parser.add_argument(
        "--overwrite",
        action="append",
        default=[],
        metavar="FILE",
        help="put the original over this changed file; the changed file is kept in .volvex/aside",
    )
    parser.add_argument("--plan", action="store_true", help="print what would happen and change nothing")
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")
    add_bench(parser, game=False)


def run(options: argparse.Namespace, context: Context) -> int:
    game = options.game or Path(read_description(bench_folder(options, context)).game)
    if not game.is_dir():
        raise NotFoundError(f"there is no folder {game}", "the folder that holds the game")
    description = game_description(game, context)
    force = [name.replace("\\", "/") for name in options.overwrite]
    if options.plan:
        planned = plan_withdraw(game, description, force)
        return tell(planned.actions, planned.skipped, True, options.json, context, "there is nothing to restore")
    total = sum((game / name).stat().st_size for name in installed(game) if (game / name).is_file()) * 2
    context.interrupted = ("the next command finishes or undoes it", "the same command again")
    with context.progress("restoring", total) as on_progress:
        done = withdraw(game, description, context.disk, on_progress, force)
    return tell(done.actions, done.skipped, False, options.json, context)
