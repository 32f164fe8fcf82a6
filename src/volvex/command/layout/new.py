"""Start a layout for an unknown file, with hints.

Prints the size and the first bytes, the more likely byte order, and what each number of the header may be: the size of
the file, an offset in it, a count.
"""

from __future__ import annotations

import argparse
import contextlib
from pathlib import Path

from volvex.archive.safe_names import quoted, shown
from volvex.command.ui.context import Context
from volvex.command.ui.reader import add_bench_read, each_content, open_walker
from volvex.errors import Status, UsageError
from volvex.layout.inspect.scaffold import start_from
from volvex.source.outputs import new_file

PRIORITY = 55
WRITES = True
INPUTS = ("path",)
OUTPUTS = {"to": ".layout"}
EXAMPLES = ("volvex layout new game/saves/night-01.sav --to saves.layout",)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", metavar="PATH", help="a file or entry of the unknown format")
    parser.add_argument("--to", type=Path, metavar="LAYOUT", help="write the start to this file")
    add_bench_read(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_walker(options, context) as walker:
        content, _ = next(each_content(options.path, walker, context), (None, None))
        if content is None:
            raise UsageError(f"{shown(options.path)} is a folder", "a file or an entry")
        with contextlib.closing(content.source) as source:
            text = start_from(source, shown(content.path.rpartition("/")[2]).replace('"', "'"))
    if options.to is None:
        context.out.write(text)
        return Status.OK
    with new_file(context.disk, options.to, hint="another name") as file:
        context.disk.write(file, text.encode())
    context.print(f"{options.to}: edit it, then `volvex layout check {quoted(options.to.as_posix())}`")
    return Status.OK
