"""Take everything that was installed out of a game: exactly the bytes that were there before.

A file that is no longer what was installed (the game was updated since) is left alone and told, never
overwritten with an older original.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.bench.description import read_description
from volvex.command._actions import tell
from volvex.command._bench import add_bench, bench_folder
from volvex.command._context import Context
from volvex.errors import NotFoundError, Status
from volvex.mods import installed, plan_restore, restore

PLACE = 41


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "game", nargs="?", type=Path, metavar="GAME", help="the game's folder (otherwise that of the bench)"
    )
    parser.add_argument("--plan", action="store_true", help="say what would happen, and touch nothing")
    parser.add_argument("--json", action="store_true", help="one list of records")
    add_bench(parser)


def run(options: argparse.Namespace, context: Context) -> int:

    game = options.game or Path(read_description(bench_folder(options, context))["game"])
    if not game.is_dir():
        raise NotFoundError(f"there is no folder {game}", "the folder that holds the game")
    if options.plan:
        planned = plan_restore(game)
        return tell(
            [a for a in planned if a.what != "leave"],
            [a for a in planned if a.what == "leave"],
            True,
            options.json,
            context,
        )
    total = sum((game / name).stat().st_size for name in installed(game) if (game / name).is_file()) * 2
    with context.progress("restoring", total) as advance:
        done = restore(game, context.disk, advance)
    status = tell(done.actions, done.changed, False, options.json, context)
    if not done.actions and not done.changed and not options.json:
        return Status.OK
    return status
