"""Show the game's log, errors and warnings marked.

Lines that name a file, an entry or an id of a mod are followed by the mod.
"""

from __future__ import annotations

import argparse

from volvex.command.ui.context import Context
from volvex.command.ui.games import game_description
from volvex.command.ui.logs import log_of, print_line, summary
from volvex.command.ui.mods import add_game_folder, game_folder
from volvex.errors import RefusedError, Status
from volvex.mods.library import ModLibrary
from volvex.mods.mod.content import Mod
from volvex.mods.running import LogMarks, read_log

PRIORITY = 49
EXAMPLES = ("volvex game-log --limit 20",)
LINES = 200


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_game_folder(parser)
    parser.add_argument(
        "--limit", type=int, default=LINES, metavar="N", help=f"show the last N lines (default: {LINES})"
    )
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    folder = game_folder(options, context)
    description = game_description(folder, context)
    log = log_of(description, folder)
    if log is None:
        raise RefusedError(
            f"{description.called} gives no path of a log", 'a line log = "logs/game.log" in its game.toml'
        )
    marks = LogMarks(
        description,
        [mod for mod in ModLibrary.of(context.home, folder, context.disk).readable(on=True) if isinstance(mod, Mod)],
    )
    lines = list(read_log(log, marks))[-max(1, options.limit) :]
    if options.json:
        context.json({"text": line.text, "level": line.level, "mods": line.mods} for line in lines)
        return Status.OK
    for line in lines:
        print_line(line, context)
    context.print(context.paint(summary(lines), "dim"))
    return Status.OK
