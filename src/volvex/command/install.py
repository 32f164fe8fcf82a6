"""Install what was built into the game; originals are kept.

All of it is installed, or nothing. Before anything changes, the originals are copied into the game's folder `.volvex`, read
back and synced. An interrupted install is finished or undone by the next command. `volvex restore` brings back exactly the
bytes that were there. What another bench installed is taken out only with --replace.
"""

from __future__ import annotations

import argparse

from volvex.bench.build import read_built
from volvex.command.ui.bench import add_bench, open_bench
from volvex.command.ui.context import Context
from volvex.command.ui.games import add_game, require_named
from volvex.command.ui.moves import tell
from volvex.errors import NotFoundError, RefusedError
from volvex.mods import install, plan_install

PRIORITY = 40
EXAMPLES = (
    "volvex install --plan",
    "volvex install",
)
_ALREADY = "all that was built is installed already"
_NOTHING = NotFoundError(
    "nothing was built: the bench has no changes", "`volvex set` or `volvex swap`, then `volvex build`"
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--plan", action="store_true", help="print what would happen and change nothing")
    parser.add_argument("--replace", action="store_true", help="take out what another bench installed")
    add_game(parser)
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")
    add_bench(parser, game=False)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_bench(options, context) as bench:
        built, game, by = read_built(bench.built), bench.game.folder, bench.identity
        files = {one.path: bench.built / one.path for one in built}
        bases = {one.path: one.base for one in built}
        own = [name for name in files if bench.game.description.is_own(name)]
        if own:
            raise RefusedError(f"{own[0]} is written by the game itself", "leaving it out of the bench")
    if options.plan:
        planned = plan_install(game, files, bases, by, options.replace)
        if not planned and not built:
            raise _NOTHING
        return tell([one for one in planned if one.what != "skip"], [one for one in planned if one.what == "skip"], True,
                    options.json, context, _ALREADY)  # fmt: skip
    require_named(game, options, context)
    total = sum(one.size for one in built) * 5
    context.interrupted = ("the next command finishes or undoes it", "the same command again")
    with context.progress("installing", total) as on_progress:
        done = install(game, files, bases, context.disk, on_progress, by, options.replace)
    if not done.actions and not done.skipped and not built:
        raise _NOTHING
    status = tell(done.actions, done.skipped, False, options.json, context, _ALREADY)
    if not options.json and done.actions:
        context.print(context.paint("`volvex restore` brings the originals back", "dim"))
    return status
