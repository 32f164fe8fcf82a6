"""Start the game and follow its log.

The game's description says how it starts and where its log is. New lines of the log are printed while it runs, errors
and warnings marked, with the mod that they are about where they name a file, an entry or an id of one. At the end the
command says how the game ended. With --install mods (and the bench, if you are on one) are installed before, with
--restore the originals come back afterwards.
"""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from volvex.command.restore import run as restore_game
from volvex.command.ui.context import Context
from volvex.command.ui.games import game_description
from volvex.command.ui.logs import log_of, print_line, summary
from volvex.command.ui.mods import add_game_folder, game_folder
from volvex.command.ui.recovery import finish_interrupted
from volvex.errors import Status
from volvex.mods.library import ModLibrary
from volvex.mods.mod.content import Mod
from volvex.mods.running import LogMarks, command_of, run_game

PRIORITY = 49
EXAMPLES = ("volvex start",)
STATUSES = {Status.DIFFERS: "the game did not start, or wrote errors"}
AT_ONCE = 10.0  # seconds after which a game that ends was not stopped at once


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_game_folder(parser)
    parser.add_argument("--install", action="store_true", help="install mods and the bench before")
    parser.add_argument("--restore", action="store_true", help="restore the originals when the game has ended")
    parser.add_argument("--timeout", type=float, metavar="SECONDS", help="end the game after this time: it runs then")


def run(options: argparse.Namespace, context: Context) -> int:
    folder = game_folder(options, context).resolve()
    finish_interrupted([folder], context)
    if options.install:
        status = _install(folder, context)
        if status:
            return status
    description = game_description(folder, context)
    marks = LogMarks(
        description,
        [mod for mod in ModLibrary.of(context.home, folder, context.disk).readable(on=True) if isinstance(mod, Mod)],
    )
    command = command_of(description, folder, sys.executable)
    context.interrupted = ("the game was ended", "")
    restored = int(Status.OK)
    try:
        done = run_game(
            command,
            folder / description.start_in,
            log_of(description, folder),
            marks,
            lambda line: print_line(line, context),
            options.timeout,
        )
    finally:
        if options.restore:
            restored = restore_game(
                argparse.Namespace(game=folder, overwrite=[], forget=[], plan=False, json=False, bench=None), context
            )
    how = (
        "ended by --timeout"
        if done.status is None
        else "ended"
        if not done.status
        else f"stopped at once with status {done.status}"
        if done.seconds < AT_ONCE
        else f"stopped with status {done.status}"
    )
    said = f"{description.name}: {how} after {done.seconds:.0f} s; {summary(done.lines)}"
    context.print(context.paint(said, "bold"))
    return Status.DIFFERS if done.failed else restored


def _install(folder: Path, context: Context) -> int:
    from volvex.command import install

    words = [] if context.bench is not None else [str(folder)]
    parser = argparse.ArgumentParser()
    install.add_arguments(parser)
    return install.run(parser.parse_args(words), context)
