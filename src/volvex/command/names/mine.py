"""Search all readable content for the names of nameless entries.

Every file and entry is read, also nested archives, for anything that could be a path. Written paths come first; then,
round after round, likely ones: other extensions, numbers, sides and languages, names of siblings, words in known
folders. Certain names go into the bench's dictionary, uncertain ones wait for `names accept`. What was read is
remembered: interrupted, the same command continues.
"""

from __future__ import annotations

import argparse

from volvex.command.names._shared import add_paths, conclude, nothing_to_do, paths_of
from volvex.command.ui.context import Context
from volvex.command.ui.reader import add_layout, open_walker
from volvex.command.ui.table import count, number
from volvex.errors import LockedError, Status

PRIORITY = 67
WRITES = True
EXAMPLES = ("volvex names mine loft",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_paths(parser)
    parser.add_argument("--all", action="store_true", help="show every name found")
    parser.add_argument("--refresh", action="store_true", help="read everything again")
    add_layout(parser)
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    from volvex.archive.access.paths import Found
    from volvex.names.mine import mine
    from volvex.names.scan import total
    from volvex.names.scan_cache import ReadMemory

    context.answers = False
    paths = paths_of(options, context)
    file = context.cache / "read.sqlite"
    if options.refresh:
        file.unlink(missing_ok=True)
    with open_walker(options, context) as walker, ReadMemory(file) as memory:
        found = Found([], [])
        for path in paths:
            one = walker.find(path, deep=True, nested=True)
            found.groups.extend(one.groups)
            found.files.extend(one.files)
        try:
            with context.progress("reading", total(found)) as on_progress:
                done = mine(found, memory, on_progress, context.note if context.err.isatty() else lambda text: None)
        except KeyboardInterrupt:
            context.note("interrupted: the same command continues where it stopped")
            raise
        if not done.before:
            return nothing_to_do(options, context)
        conclude(done.quarries, found.groups, done.finds, options, context)
        read = done.read
        if not options.json:
            known = f", {number(read.remembered)} of them remembered" if read.remembered else ""
            left = f"; {count(done.left_out, 'product')} too large to be tried" if done.left_out else ""
            context.print(
                context.paint(
                    f"read {count(read.files, 'file')}, {number(read.bytes)} bytes{known}; "
                    f"{count(done.rounds, 'round')}{left}",
                    "dim",
                )
            )
        for fault in dict.fromkeys(fault.message for fault in (*walker.faults, *read.faults)):
            context.complain(f"not read: {fault}")
        damaged = any(not isinstance(fault, LockedError) for fault in (*walker.faults, *read.faults))
        return Status.BAD_DATA if damaged else Status.OK
