"""Copy entries or files into the bench for editing.

Paths are as in the game, or relative to the current folder. A file that you edited is not overwritten unless
--overwrite is given, and is then kept in the bench's folder `undone`. --with-references takes what they refer to as
well. With --as, data is also written to the bench's folder `open` in a format that other programs open; your edits
there are taken over by the next command that works on changes.
"""

from __future__ import annotations

import argparse
import os
from typing import TYPE_CHECKING

from volvex.archive.safe_names import shown
from volvex.bench.refusals import takeable
from volvex.command.ui.bench import add_bench, note_same_content, open_bench
from volvex.command.ui.context import Context
from volvex.command.ui.reader import add_layout
from volvex.command.ui.table import count
from volvex.command.ui.variants import add_variant
from volvex.errors import Status

if TYPE_CHECKING:
    from volvex.bench.workbench import Workbench

PRIORITY = 31
WRITES = True
EXAMPLES = (
    "volvex take data/main.kwp/letters/en",
    "volvex take data/almanac.kwp/tables/fittings.kwb --as csv",
)
TOLD = 12


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", nargs="+", metavar="PATH", help="an entry, a folder, an archive; * ? [ab] and ** match")
    parser.add_argument(
        "--with-references", action="store_true", help="also take what it refers to: textures, skeletons, objects, data"
    )
    parser.add_argument(
        "--overwrite", action="store_true", help="take the original again; edited files are kept in `undone`"
    )
    parser.add_argument(
        "--as",
        dest="extension",
        metavar="FORMAT",
        help="also write it for other programs: csv, tsv, xlsx, json, po, xlf; png, tiff, tga, dds, ktx2; sprites; "
        "wav, flac, ogg, mp3; glb, obj",
    )
    parser.add_argument("--sheet", metavar="NAME", help="with --as: the sheet, when the file has several")
    parser.add_argument(
        "--language", metavar="L", help="with --as, for texts: this language beside the source language"
    )
    parser.add_argument(
        "--channels", choices=("apart",), help="with --as, for pictures: colours and alpha as two files"
    )
    parser.add_argument(
        "--level", type=int, metavar="N", help="with --as, for pictures: this level as a file of its own"
    )
    parser.add_argument(
        "--grid",
        default="",
        metavar="WxH",
        help="with --as sprites, for a sheet without a list: cells of 32x48, or 32x48+MARGIN/SPACING",
    )
    add_variant(parser)
    add_layout(parser)
    add_bench(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    with open_bench(options, context) as bench:
        wanted = [one for path in options.path for one in bench.meant(path, context.cwd)]
        wanted, refused = takeable(bench, wanted)
        named = {bench.place_of(*one) for one in wanted}
        if options.with_references:
            wanted += _belonging(bench, sorted(named), context)
        beside = _levels(bench, wanted) if options.overwrite else []
        wanted, there = list(dict.fromkeys([*wanted, *beside])), list[str]()
        if options.extension and not options.overwrite:  # what already exists is opened as it stands
            there = [place for one in wanted if (bench.files / (place := bench.place_of(*one))).is_file()]
            wanted = [one for one in wanted if bench.place_of(*one) not in there]
        context.interrupted = ("the files that were taken are whole", "the same command again, which takes the others")
        done, left = bench.take(wanted, options.overwrite)
        left += there
        for place in done[:TOLD]:
            where = os.path.relpath(bench.files / place, context.cwd).replace(os.sep, "/")
            context.print(f"took {context.paint(shown(where), 'blue')}")
        if len(done) > TOLD:
            context.print(f"and {count(len(done) - TOLD, 'more file')}")
        if left:
            context.print(f"{count(len(left), 'file')} already in the bench")
        if options.extension and options.rehearse:
            context.print(f"{count(len(named), 'file')} to be opened as {options.extension}")
        elif options.extension:
            levels = {bench.place_of(*one) for one in beside}
            opened = [place for place in (*done, *left) if place not in levels and place in named]
            _open(bench, opened, options, context)
        note_same_content(bench, context)
    for path, reason in refused:
        context.complain(f"not taken: {shown(path)}: {reason}")
    return Status.REFUSED if refused else Status.OK


def _belonging(bench: Workbench, places: list[str], context: Context) -> list[tuple[str, int | None]]:
    """What some things refer to, and what that refers to in turn."""
    from volvex.bench.belongings import referenced

    found, notes = referenced(bench, places)
    for note in notes:
        context.note(f"note: {shown(note)}")
    return [one for place in found for one in bench.select(place)]


def _levels(bench: Workbench, wanted: list[tuple[str, int | None]]) -> list[tuple[str, int | None]]:
    """What else is on the bench of the pictures that are meant: files beside them with some of their levels."""
    from volvex.bench.assets import files_beside

    places = [place for one in wanted for place in files_beside(bench, bench.place_of(*one))]
    return [one for place in places if (bench.files / place).is_file() for one in bench.select(place)]


def _open(bench: Workbench, places: list[str], options: argparse.Namespace, context: Context) -> None:
    from volvex.bench.assets import kinds_going_to, open_asset
    from volvex.bench.exports import open_as
    from volvex.data.exchange import Wanted

    wanted = Wanted(options.sheet, None, options.language, bench.game.description.meanings.language or None)
    extension = options.extension.lstrip(".").lower()
    if extension == "sprites":
        from volvex.bench.sprites import open_sprites

        for place in places:
            folder, frames, empty = open_sprites(bench, place, options.grid, options.overwrite)
            where = os.path.relpath(bench.folder / folder, context.cwd).replace(os.sep, "/")
            context.print(f"opened as {context.paint(shown(where), 'green')}: {count(frames, 'frame')}")
            if empty:
                context.note(f"note: {count(empty, 'frame')} of no pixels left out")
        return
    for place in places:
        opened: list[tuple[str, tuple[str, ...]]] = []
        if kinds_going_to(extension) or options.channels or options.level is not None:
            opened = open_asset(bench, place, extension, vars(options), options.overwrite)
        else:
            opened = [(open_as(bench, place, extension, wanted, options.overwrite), ())]
        for file, notes in opened:
            where = os.path.relpath(bench.folder / file, context.cwd).replace(os.sep, "/")
            context.print(f"opened as {context.paint(shown(where), 'green')}")
            for note in notes:
                context.note(f"note: {shown(where)}: {shown(note)}")
