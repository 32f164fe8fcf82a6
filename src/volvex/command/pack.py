"""Pack a folder into an archive of another's format.

Without --like it writes a plain ZIP or TAR (also .tar.gz, .tar.xz, .tar.zst ...), by the name of the new file. With
--like, files that equal an entry of that archive keep its stored bytes; changed and new files are stored like that
entry or the most similar one. Entries without a file are left out.
"""

from __future__ import annotations

import argparse
import tempfile
from pathlib import Path

from volvex.archive import open_archive
from volvex.archive.safe_names import shown
from volvex.archive.transfer.pack import Packed, files_below, pack
from volvex.command.ui.context import Context
from volvex.command.ui.on_disk import on_disk
from volvex.command.ui.reader import add_reading, layout_of_all, tied_library
from volvex.command.ui.table import count, number
from volvex.errors import NotFoundError, RefusedError, Status, UsageError
from volvex.source.outputs import Outputs

PRIORITY = 21
WRITES = True
INPUTS = ("like",)
OUTPUTS = {"to": ".zip"}
EXAMPLES = (
    "volvex pack main --like game/data/main.kwp --to main.kwp",
    "volvex pack main --to main.zip",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("dir", type=Path, metavar="DIR", help="the folder")
    parser.add_argument(
        "--like",
        type=Path,
        metavar="ARCHIVE",
        help="the archive whose format to use, on a bench also one of its game (default: a plain ZIP or TAR, by the "
        "name of the new file)",
    )
    parser.add_argument("--to", required=True, type=Path, metavar="FILE", help="the archive to write")
    parser.add_argument("--overwrite", action="store_true", help="replace an existing file")
    parser.add_argument("--anyway", action="store_true", help="even if no file of the folder is in the archive")
    add_reading(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    context.interrupted = (f"{options.to} was not written", "the same command again")
    Outputs(context.disk, options.overwrite).check(options.to)
    if not options.dir.is_dir():
        raise NotFoundError(f"there is no folder {options.dir}", "the folder that `volvex unpack` made")
    return _pack_like(options, context) if options.like is not None else _pack_plain(options, context)


def _pack_plain(options: argparse.Namespace, context: Context) -> int:
    from volvex.archive.transfer.plain import OUTER, plain_model

    model = plain_model(options.to, context.keys)
    if model is None:
        raise UsageError(
            f"the name {options.to} gives no archive format",
            f"--like ARCHIVE, or a name that ends in one of .zip {' '.join(OUTER)}",
        )
    with model:
        files = files_below(options.dir)
        if not files and not options.anyway:
            raise RefusedError(f"{options.dir} is empty", "the folder whose files are to be packed, or --anyway")
        with context.progress("packing", sum(path.stat().st_size for path in files.values())) as on_progress:
            done = pack(options.dir, model, options.to, context.disk, on_progress, options.overwrite)
    context.print(f"{options.to}: {number(done.size)} bytes; {count(len(done.added), 'entry', 'entries')}")
    return _note_leftovers(done, context)


def _pack_like(options: argparse.Namespace, context: Context) -> int:
    with tempfile.TemporaryDirectory(prefix="volvex-pack-") as folder:
        return _pack_as(on_disk(options.like, options, context, Path(folder)), options, context)


def _pack_as(model: Path, options: argparse.Namespace, context: Context) -> int:
    library, _ = tied_library(options, context)
    like = open_archive(model, library, layout=layout_of_all(options, library, context))
    if like is None:
        raise NotFoundError(f"unknown format: {options.like}", "--layout LAYOUT")
    with like:
        total = sum(path.stat().st_size for path in files_below(options.dir).values()) + like.source.size
        with context.progress("packing", total) as on_progress:
            done = pack(options.dir, like, options.to, context.disk, on_progress, options.overwrite, options.anyway)
    beside = [name for name in done.files if name != options.to.name]
    context.print(
        f"{options.to}{' with ' + count(len(beside), 'file') + ' beside it' if beside else ''}: {number(done.size)} "
        f"bytes; {count(done.same, 'entry', 'entries')} as in {options.like.name}, "
        f"{len(done.changed):,} changed, {len(done.added):,} added, {len(done.removed):,} left out"
    )
    for name in beside:
        context.print(f"{shown((options.to.parent / name).as_posix())}: {number(done.files[name])} bytes")
    for name in done.kept:
        context.complain(
            f"note: {shown(name) or 'an entry without a name'} cannot be taken out, so it stays as it is in "
            f"{options.like.name}"
        )
    return _note_leftovers(done, context)


def _note_leftovers(done: Packed, context: Context) -> int:
    for name in done.leftovers:
        context.complain(f"left out: {shown(name)}: a temporary file of an interrupted command")
    return Status.REFUSED if done.leftovers else Status.OK
