"""List uncertain names, and accept them by path or pattern.

Without a path it lists them, the most likely first. An accepted name goes into the bench's dictionary with the hash
that it stands for.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.archive.safe_names import shown
from volvex.command.names._shared import own_folder, print_finds, record
from volvex.command.ui.context import Context
from volvex.command.ui.table import count
from volvex.errors import NotFoundError, Status

PRIORITY = 69
WRITES = True
EXAMPLES = ("volvex names accept",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", nargs="*", metavar="PATH", help="a path in the list, or a pattern")
    parser.add_argument("--discard", action="store_true", help="discard them instead")
    parser.add_argument(
        "--bench", type=Path, metavar="DIR", help="the bench (default: the current folder or one above it)"
    )
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    from volvex.names import finds

    folder = own_folder(options, context)
    if not options.path:
        waits = sorted(finds.waiting(folder), key=lambda find: (find.doubt, find.kind, find.path))
        if options.json:
            context.json(map(record, waits))
        elif waits:
            print_finds(waits, options, context, len(waits))
            context.print(context.paint(f"{count(len(waits), 'find')} in doubt", "dim"))
        else:
            context.print("no uncertain names")
        return Status.OK
    taken = (finds.forget if options.discard else finds.accept)(folder, options.path, context.disk)
    if not taken:
        raise NotFoundError(
            f"not in the list of uncertain names: {shown(options.path[0])}", "`volvex names accept` to see what does"
        )
    for find in taken:
        context.print(
            f"{'discarded' if options.discard else 'accepted'}: {context.paint(shown(find.path), 'blue')} for "
            f"{find.key}"
        )
    return Status.OK
