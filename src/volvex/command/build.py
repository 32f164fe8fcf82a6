"""Write anew the archives that the bench's changes affect, everything else in them bit for bit.

The result lies in the bench's folder `built`; the game is not touched. Unchanged entries are copied as they
lie, not decoded.
"""

from __future__ import annotations

import argparse
import os

from volvex.bench.build import build
from volvex.command._bench import add_bench, open_bench
from volvex.command._context import Context
from volvex.command._tables import Column, count, numbers, print_table
from volvex.errors import Status

PLACE = 36


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--json", action="store_true", help="one list of records")
    add_bench(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_bench(options, context) as bench:
        total = sum(one.size for one in bench.fingerprints.values())
        with context.progress("building", total) as advance:
            built = build(bench, advance)
        folder = os.path.relpath(bench.built, context.cwd)
    if options.json:
        context.json({"path": one.path, "size": one.size, "changes": one.changes} for one in built)
    elif not built:
        context.print("nothing differs from the original, so nothing was built")
    else:
        print_table(context, [Column("size", numbers(one.size for one in built), right=True),
                              Column("changes", numbers(one.changes for one in built), right=True),
                              Column("built", [one.path for one in built])])  # fmt: skip
        context.print(context.paint(f"{count(len(built), 'file')} in {folder}; next: volvex install", "dim"))
    return Status.OK
