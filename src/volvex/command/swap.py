"""Put a file of yours in the place of one of the game's, in the bench.

With --new it becomes a file that the game did not have.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.archive.names import shown
from volvex.command._bench import add_bench, open_bench
from volvex.command._context import Context
from volvex.command._tables import number
from volvex.errors import Status

PLACE = 33


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", metavar="PATH", help="the entry or file, as in the game")
    parser.add_argument("file", type=Path, metavar="FILE", help="your file")
    parser.add_argument("--new", action="store_true", help="the game has no such file yet")
    add_bench(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_bench(options, context) as bench:
        place = bench.put(bench.within_game(options.path, context.cwd), options.file, options.new)
        size = (bench.files / place).stat().st_size
        context.print(f"{shown(place)} is now {shown(options.file.as_posix())}, {number(size)} bytes")
    return Status.OK
