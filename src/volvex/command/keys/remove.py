"""Remove a key from your key file."""

from __future__ import annotations

import argparse

from volvex.archive.key_file import remove_key
from volvex.command.ui.context import Context
from volvex.errors import Status

PRIORITY = 60
WRITES = True
EXAMPLES = ("volvex keys remove kelpwick-post",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="the key's name")


def run(options: argparse.Namespace, context: Context) -> int:
    remove_key(context.home, options.name, context.disk)
    context.print(f"the key {options.name} was removed from your key file")
    return Status.OK
