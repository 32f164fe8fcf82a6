"""Restore the original files of a game, bit for bit.

A file that changed since it was installed (a game update?) is skipped, never overwritten with an older original. Its
original is kept until its bytes are back; that is said once. --overwrite FILE moves the changed file into .volvex/aside
in the game's folder and puts the original in its place; --forget FILE lets an older original go.
"""

from __future__ import annotations

import argparse

from volvex.archive.safe_names import shown
from volvex.command.ui.bench import add_bench
from volvex.command.ui.context import Context
from volvex.command.ui.games import game_description
from volvex.command.ui.mods import add_game_folder, game_folder
from volvex.command.ui.moves import tell
from volvex.errors import NotFoundError, Status
from volvex.mods import installed
from volvex.mods.deploy import plan_withdraw, withdraw
from volvex.mods.restore import forget, told_once

PRIORITY = 41
EXAMPLES = (
    "volvex restore --plan",
    "volvex restore",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_game_folder(parser)
    parser.add_argument(
        "--overwrite",
        action="append",
        default=[],
        metavar="FILE",
        help="put the original over this changed file; the changed file is kept in .volvex/aside",
    )
    parser.add_argument(
        "--forget",
        action="append",
        default=[],
        metavar="FILE",
        help="let go of an older original of this file, from before a game update: it is moved to .volvex/aside",
    )
    parser.add_argument("--plan", action="store_true", help="print what would happen and change nothing")
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")
    add_bench(parser, game=False)


def run(options: argparse.Namespace, context: Context) -> int:
    game = game_folder(options, context)
    if not game.is_dir():
        raise NotFoundError(f"there is no folder {game}", "the folder that holds the game")
    if options.forget:
        for name, place in forget(game, [name.replace("\\", "/") for name in options.forget], context.disk):
            context.print(f"{shown(name)}: its older original is in {shown(str(place))}")
        return Status.OK
    description = game_description(game, context)
    force = [name.replace("\\", "/") for name in options.overwrite]
    if options.plan:
        planned = plan_withdraw(game, description, force)
        return tell(planned.actions, planned.skipped, True, options.json, context, "there is nothing to restore")
    total = sum((game / name).stat().st_size for name in installed(game) if (game / name).is_file()) * 2
    context.interrupted = ("the next command finishes or undoes it", "the same command again")
    with context.progress("restoring", total) as on_progress:
        done = withdraw(game, description, context.disk, on_progress, force)
    told_once(game, done, context.disk)
    return tell(done.actions, done.skipped, False, options.json, context)
