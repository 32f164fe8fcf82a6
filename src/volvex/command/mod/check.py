"""Check a mod: its descriptor, its changes, and the game.

With a game, everything in the mod is also applied to a copy in memory, and the result is checked as `volvex check`
does.
"""

from __future__ import annotations

import argparse

from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.mods import (
    add_game,
    decisions_of,
    mod_named,
    open_library,
    open_staging,
    part_counts,
    print_conflicts,
)
from volvex.command.ui.table import count
from volvex.data.check import ERROR
from volvex.errors import Status
from volvex.mods.assemble import assemble

PRIORITY = 43
INPUTS = ("mod",)
EXAMPLES = ("volvex mod check ../bright-lamps",)
STATUSES = {Status.DIFFERS: "the mod does not fit the game"}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("mod", metavar="MOD", help="a mod's folder, its ZIP, or its id in the library")
    add_game(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with (
        mod_named(options.mod, options, context) as mod,
        open_library(options, context) as library,
        open_staging(library, context, "check") as bench,
    ):
        made = assemble(bench, [mod], decisions_of(library))
    if made.conflicts:
        print_conflicts(made.conflicts, context)
        return Status.DIFFERS
    for problem in made.problems:
        context.account(**vars(problem))
        context.complain(f"{problem.level}: {shown(problem.told)}")
    errors = sum(problem.level == ERROR for problem in made.problems)
    said = f"has {count(errors, 'error')}" if errors else "has no faults"
    context.print(f"{mod.id} {mod.descriptor.version} {said}; changes {part_counts(mod)}")
    return Status.DIFFERS if errors else Status.OK
