"""List the conflicts between mods, and settle one.

A conflict is a field, record, line or file that two mods change differently, or that has changed in the game since a
mod was made. What was settled is remembered for as long as all sides stay as they are.
"""

from __future__ import annotations

import argparse

from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.mods import add_game, conflict_record, decisions_of, open_library, open_staging, print_conflicts
from volvex.errors import NotFoundError, Status, UsageError
from volvex.mods.combine.conflict import GAME, Conflict, Decision, Decisions
from volvex.mods.combine.files import combine

PRIORITY = 46
WRITES = True
EXAMPLES = ("volvex mod settle",)
STATUSES = {Status.DIFFERS: "conflicts are left"}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "conflict", nargs="?", metavar="CONFLICT", help="a conflict as it is listed (default: list them)"
    )
    parser.add_argument("--winner", metavar="MOD", help="the mod that wins, or `game` for what the game has")
    parser.add_argument("--forget", action="store_true", help="forget the decision on this conflict, or all decisions")
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")
    add_game(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    if options.winner is not None and options.conflict is None:
        raise UsageError("--winner needs the conflict that it settles", "`volvex mod settle` to list them")
    with open_library(options, context) as library:
        if options.forget:
            gone = [key for key in library.settled if options.conflict in (None, key)]
            library.settled = {key: decision for key, decision in library.settled.items() if key not in gone}
            library.save()
        with open_staging(library, context) as bench:
            mods = library.mods()
            if options.winner is not None:
                every = combine(bench, mods, Decisions({})).conflicts
                library.settled[options.conflict] = _decision(every, options)
                library.save()
            left = combine(bench, mods, decisions_of(library)).conflicts
    if options.json:
        context.json(conflict_record(conflict) for conflict in left)
    elif left:
        print_conflicts(left, context)
    else:
        context.print("no conflicts are left" if options.winner or options.forget else "no conflicts")
    return Status.DIFFERS if left else Status.OK


def _decision(conflicts: list[Conflict], options: argparse.Namespace) -> Decision:
    found = next((conflict for conflict in conflicts if conflict.key == options.conflict), None)
    if found is None:
        raise NotFoundError(f"there is no conflict {shown(options.conflict)}", "`volvex mod settle` to list them")
    wanted = GAME if options.winner == "game" else options.winner
    sides = [side.mod for side in found.sides]
    if wanted not in (*sides, GAME):
        raise UsageError(
            f"{shown(options.winner)} has no side in this conflict",
            f"--winner {' or '.join(side for side in sides if side != GAME)}, or game",
        )
    return Decision(wanted, found.state)
