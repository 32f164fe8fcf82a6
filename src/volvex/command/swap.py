"""Replace a file of the game with your own.

A picture, sound, movie or model that replaces one of the game's is converted to what that is: pixel format and levels;
rate, channels and encoding; container, codecs, size and frame rate; axes, units, formats of vertices and the joints of
the game. What cannot be converted, is of another kind or is damaged is refused; --as-is puts it in all the same.

A file that you edited is kept in the bench's folder `undone`.

PATH@0xOFFSET is a file found inside another, as `volvex identify --save-found` takes it out. --new adds a file that the
game does not have. --from takes the content of another variant instead of a file: `volvex swap PATH --variant en --from
de`.
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from volvex.archive.safe_names import shown
from volvex.bench.order import found_after, place_after
from volvex.bench.put_back import put_back, split_offset
from volvex.command.ui.bench import add_bench, note_same_content, open_bench
from volvex.command.ui.context import Context
from volvex.command.ui.reader import add_layout
from volvex.command.ui.table import count, number
from volvex.command.ui.variants import add_variant
from volvex.errors import RefusedError, Status, UsageError

if TYPE_CHECKING:
    from volvex.bench.workbench import Workbench

PRIORITY = 33
WRITES = True
INPUTS = ("file",)
EXAMPLES = (
    "volvex swap data/main.kwp/letters/en/02-oil.txt letter.txt",
    "volvex swap --new mods/notes/readme.txt letter.txt",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", metavar="PATH", help="the entry or file, as in the game")
    parser.add_argument("file", type=Path, nargs="?", metavar="FILE", help="your file")
    parser.add_argument("--from", dest="other", metavar="NAME", help="use the content of this variant")
    parser.add_argument("--new", action="store_true", help="add a file that the game does not have")
    parser.add_argument("--after", metavar="ENTRY", help="with --new: put its record behind this entry's")
    parser.add_argument("--resize", action="store_true", help="for pictures: make yours as large as the game's own")
    parser.add_argument("--anyway", action="store_true", help="for pictures: keep the size of yours")
    parser.add_argument(
        "--palette", choices=("new",), help="for pictures with a palette: make it new for yours (default: it is kept)"
    )
    parser.add_argument("--loudness", choices=("original",), help="for sounds: make yours as loud as the game's own")
    parser.add_argument("--framing", choices=("fit", "fill"), help="for movies: the whole clip, or all of the frame")
    parser.add_argument("--trim", action="store_true", help="for movies: cut yours where the game's own ends")
    parser.add_argument(
        "--lods",
        choices=("nearest", "simplified"),
        help="for models: make levels of detail that yours lacks, as the nearest one or with fewer triangles "
        "(default: the game's own stay)",
    )
    parser.add_argument("--mute", action="store_true", help="for movies: leave the sound of yours out")
    parser.add_argument("--blank", action="store_true", help="put one black frame in the place of a movie")
    parser.add_argument("--as-is", action="store_true", help="put your file in unchanged, of whatever kind")
    add_variant(parser)
    add_layout(parser)
    add_bench(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    if options.blank and (options.file or options.other or options.new):
        raise UsageError("--blank needs no file", "leaving out one of them")
    if not options.blank and (options.file is None) == (options.other is None):
        raise UsageError("what to put there is a file of yours, or another variant", "FILE, or --from NAME")
    if options.blank or options.new or options.as_is or options.other:
        _require_fitting(options)
    if options.other is not None:
        return _swap_variant(options, context)
    with open_bench(options, context) as bench:
        status = _put(bench, options, context)
        note_same_content(bench, context)
    return status


def _put(bench: Workbench, options: argparse.Namespace, context: Context) -> int:
    """Put the file in, converted where it has to be."""
    path = bench.within_game(options.path, context.cwd)
    if options.blank:
        done = _put_converted(bench, path, options, context)
        if not done:
            meant = list(bench.select(path))  # NotFoundError, with what is near
            if len(meant) > 1:
                raise UsageError(f"{shown(path)} means several files", "one movie")
            raise UsageError(f"{shown(path)} is no movie", "`volvex drop` to leave it out")
        return Status.OK
    offset = split_offset(bench, path) if not options.new else None
    if offset is not None:
        _require_fitting(options)
        place, found, left = put_back(bench, *offset, options.file)
        rest = f", and {count(left, 'zero')} behind it" if left else ""
        context.print(
            f"{shown(place)}: the {found.kind} at {found.offset:#x} is now {shown(options.file.as_posix())}{rest}"
        )
        return Status.OK
    if options.after is not None and not options.new:
        raise UsageError("only a new entry can be put behind another", "--new")
    after = found_after(bench, path, bench.within_game(options.after, context.cwd) if options.after else "")
    if not (options.new or options.as_is):
        if _put_converted(bench, path, options, context):
            return Status.OK
        if options.file.is_file():
            _require_fitting(options)
        _require_fit(bench, path, options.file)
    place = bench.put(path, options.file, options.new)
    place_after(bench, place, after)
    size = bench.disk.where(bench.files / place).stat().st_size
    context.print(f"{shown(place)} is now {shown(options.file.as_posix())}, {number(size)} bytes")
    return Status.OK


def _require_fit(bench: Workbench, path: str, file: Path) -> None:
    """RefusedError for a file that is of another kind than the game's own, or damaged where that is not."""
    from volvex.bench.content import one_meant
    from volvex.bench.fitting import misfit
    from volvex.source import FileSource

    place = one_meant(bench, path)
    if place is None or not file.is_file():
        return  # reported where it is put there
    with FileSource(file, place) as source:
        found = misfit(bench, place, source)
    if found is not None:
        hint = f"{found.hint}; or --as-is to put it in unchanged" if found.hint else "--as-is to put it in unchanged"
        raise RefusedError(f"{shown(file.as_posix())}: {found.message}", hint)


def _require_fitting(options: argparse.Namespace, what: str = "") -> None:
    """UsageError for options that convert something else than what is put in (nothing, when that stays as it is): they
    would do nothing."""
    from volvex.asset.kind import ASSET_KINDS

    for kind in ASSET_KINDS.all():
        names = [name for name in kind.OPTIONS if getattr(options, name, None) and what != kind.NAME]
        if names:
            given, does = (
                [f"--{name.replace('_', '-')}" for name in names],
                "converts" if len(names) == 1 else "convert",
            )
            raise UsageError(
                f"{' and '.join(given)} {does} a {kind.NAME} that replaces a {kind.NAME}", "leaving it out"
            )


def _put_converted(bench: Workbench, path: str, options: argparse.Namespace, context: Context) -> bool:
    """Convert an asset that replaces one of the game's, and put it there; whether it was one that had to be
    converted."""
    from volvex.bench.assets import put_replacement, replacement

    with context.progress("encoding", 0) as on_progress:
        converted = replacement(bench, path, options.file, vars(options), on_progress)
    if converted is None:
        return False
    _require_fitting(options, converted.kind.NAME)
    place, written = put_replacement(bench, converted, options.file)
    result = converted.result
    for note in result.notes:
        context.note(f"note: {shown(place)}: {shown(note)}")
    what = shown(options.file.as_posix()) if options.file is not None else "one black frame"
    done = f"was converted to {shown(result.form)}"
    if result.as_is:
        done = "is like the game's own and put in as it is"
    told = f", {result.what}" if result.what else ""
    context.print(f"{shown(place)}: {what} {done}{told}")
    for other in written:
        if other != place:
            context.print(f"wrote {context.paint(shown(other), 'blue')}")
    if not written:
        context.print(f"{shown(place)} is as it was")
    return True


def _swap_variant(options: argparse.Namespace, context: Context) -> int:
    with open_bench(options, context) as bench:
        path = bench.within_game(options.path, context.cwd)
        done = bench.put_variant(path, options.other)
    for place, other, size in done:
        context.print(f"{shown(place)} is now {shown(other)}, {number(size)} bytes")
    return Status.OK
