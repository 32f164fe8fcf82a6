"""List the names of your keys, never the secrets.

The key that was right last comes first.
"""

from __future__ import annotations

import argparse

from volvex.archive.key_file import NAME, read_keys
from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.table import Column, count, numbers, print_table
from volvex.errors import Status

PRIORITY = 60
EXAMPLES = ("volvex keys list",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--json", action="store_true", help="print JSON: a list of records")


def run(options: argparse.Namespace, context: Context) -> int:
    context.warn_of_keys()
    keys = read_keys(context.home)
    if options.json:
        context.json({"name": key.name} for key in keys)
        return Status.OK
    if not keys:
        context.print("you have no keys; `volvex keys add NAME` adds one")
        return Status.OK
    print_table(
        context,
        [
            Column("bytes", numbers(len(key.secret) for key in keys), right=True),
            Column("key", [shown(key.name) for key in keys], style="blue"),
        ],
    )
    context.print(context.paint(f"{count(len(keys), 'key')} in {context.home / NAME}", "dim"))
    return Status.OK
