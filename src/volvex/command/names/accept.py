"""The names that wait because they may be accidents: shown, and accepted by path or pattern.

Without a path the list of them, the likeliest first. What is accepted goes into the bench's dictionary with the key
that it stands for, so that it holds whatever else has that key.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.archive.safe_names import shown
from volvex.command.names._shared import own_folder, print_finds, record
from volvex.command.ui.context import Context
from volvex.command.ui.table import count
from volvex.errors import NotFoundError, Status

PRIORITY = 68
EXAMPLES = ()


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", nargs="*", metavar="PATH", help="a path that waits, or a pattern of such")
    parser.add_argument("--forget", action="store_true", help="throw them away instead")
    parser.add_argument(
        "--bench", type=Path, metavar="DIR", help="the bench; the folder you stand in, or one above it, otherwise"
    )
    parser.add_argument("--json", action="store_true", help="one list of records")


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
            context.print("nothing waits to be accepted")
        return Status.OK
    taken = (finds.forget if options.forget else finds.accept)(folder, options.path, context.disk)
    if not taken:
        raise NotFoundError(
            f"nothing that waits is called {shown(options.path[0])}", "`volvex names accept` to see what does"
        )
    for find in taken:
        context.print(
            f"{'forgotten' if options.forget else 'accepted'}: {context.paint(shown(find.path), 'blue')} for {find.key}"
        )
    return Status.OK
