"""Write a folder as an archive in the format of another one.

Files that equal an entry of that archive keep its stored bytes; changed and new ones are stored as that entry,
or the one most like them, was. Entries without a file are left out.
"""

from __future__ import annotations

import argparse
from pathlib import Path

from volvex.archive import open_archive
from volvex.archive.names import shown
from volvex.archive.pack import files_below, pack
from volvex.command._context import Context
from volvex.command._tables import count, number
from volvex.errors import NotFoundError, Status
from volvex.layout import Layout
from volvex.source.outputs import Outputs

PLACE = 21


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("dir", type=Path, metavar="DIR", help="the folder")
    parser.add_argument(
        "--like", required=True, type=Path, metavar="ARCHIVE", help="the archive whose format and facts to follow"
    )
    parser.add_argument("--to", required=True, type=Path, metavar="FILE", help="the archive to write")
    parser.add_argument("--overwrite", action="store_true", help="replace the file if it is there")
    parser.add_argument("--layout", type=Path, metavar="FILE", help="open the archive with this layout")


def run(options: argparse.Namespace, context: Context) -> int:
    Outputs(context.disk, options.overwrite).check(options.to)
    if not options.like.is_file():
        raise NotFoundError(f"there is no file {options.like}")
    if not options.dir.is_dir():
        raise NotFoundError(f"there is no folder {options.dir}", "the folder that `volvex unpack` made")
    layout = _layout(options.layout) if options.layout else None
    like = open_archive(options.like, context.library(), layout=layout)
    if like is None:
        raise NotFoundError(f"no layout knows {options.like}", "--layout FILE")
    with like:
        total = sum(path.stat().st_size for path in files_below(options.dir).values()) + like.source.size
        with context.progress("packing", total) as advance:
            done = pack(options.dir, like, options.to, context.disk, advance, options.overwrite)
    beside = [name for name in done.files if name != options.to.name]
    context.print(f"{options.to}{' with ' + count(len(beside), 'file') + ' beside it' if beside else ''}: {number(done.size)} bytes; {count(done.same, 'entry', 'entries')} as in {options.like.name}, "
                  f"{len(done.changed):,} changed, {len(done.added):,} added, {len(done.removed):,} left out")  # fmt: skip
    for name in beside:
        context.print(f"{shown((options.to.parent / name).as_posix())}: {number(done.files[name])} bytes")
    for name in done.kept:
        context.note(
            f"note: {shown(name) or 'an entry without a name'} cannot be taken out, so it stays as it is in {options.like.name}"
        )
    for name in done.leftovers:
        context.note(f"left out: {shown(name)}: a temporary file of an interrupted command")
    return Status.REFUSED if done.leftovers else Status.OK


def _layout(path: Path) -> Layout:
    from volvex.layout.syntax import read_layout  # the parser takes a while to load

    return read_layout(path)
