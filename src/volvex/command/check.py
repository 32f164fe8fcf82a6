"""Check the changes for broken references and other mistakes.

Looks at all data of the game as it will be with the changes: references, placeholders, paths, lengths, letters that a
font lacks. Faults of the original are not reported. Errors would stop the game, warnings would not. `build` runs the
same check and refuses when there are errors.
"""

from __future__ import annotations

import argparse

from volvex.archive.safe_names import shown
from volvex.bench.check import check
from volvex.command.ui.bench import add_bench, open_bench
from volvex.command.ui.context import Context
from volvex.command.ui.reader import add_layout
from volvex.command.ui.table import count
from volvex.data.check import ERROR, Problem
from volvex.errors import Status

PRIORITY = 36
EXAMPLES = ("volvex check",)
STATUSES = {Status.DIFFERS: "the changes have errors"}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")
    add_layout(parser)
    add_bench(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_bench(options, context, sync_exports=True) as bench:
        found = check(bench)
    if options.json:
        context.json(vars(problem) for problem in found)
    else:
        for problem in found:
            print_problem(problem, context)
        context.print(context.paint(summary(found), "dim") if found else "no errors in the changes")
    return Status.DIFFERS if any(problem.level == ERROR for problem in found) else Status.OK


def summary(found: list[Problem]) -> str:
    """How many errors and warnings."""
    errors = sum(problem.level == ERROR for problem in found)
    return f"{count(errors, 'error')}, {count(len(found) - errors, 'warning')}"


def print_problem(problem: Problem, context: Context) -> None:
    """A problem in one line, and one with what to do."""
    level = context.paint(problem.level.ljust(7), "red" if problem.level == ERROR else "yellow")
    context.print(
        f"{level}  {context.paint(shown(problem.file), 'blue')}  {context.paint(shown(problem.place), 'bold')}"
    )
    text = shown(problem.message) + (f"; try {shown(problem.hint)}" if problem.hint else "")
    context.print(context.wrapped(text, " " * 9))
