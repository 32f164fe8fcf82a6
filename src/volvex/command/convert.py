"""Convert data, pictures, sounds, models to open formats and back.

Tables, texts and scenes become CSV, TSV, XLSX and JSON, texts also PO and XLIFF. Back it goes with --like, the file it
was made from: everything that the open format cannot store comes from there. Every value is checked, and every fault is
reported with row, column, value and what is allowed; nothing is written unless all values are valid. Pictures become
PNG, TIFF, TGA, DDS, KTX2 and others, sounds (and those of movies) WAV, FLAC, OGG, MP3 and others, models glTF (.glb)
and OBJ with their textures beside them. In a bench, `volvex take PATH --as csv` (or png, wav) does both steps.

With --to, all pictures of any paths are converted, on all cores, or all sounds with --as flac or another format of
sounds: their titles are their names, their albums their folders; or all models with --as glb, each with its skeleton,
animations and materials, and the textures of all of them once. A bad one is reported and does not stop the others.
--skip-existing goes on from where an earlier run was stopped.
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from volvex.archive import Walker
from volvex.archive.detect import filetypes
from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.reader import Content, add_reading, content_at, open_walker
from volvex.command.ui.table import count, number
from volvex.errors import NotFoundError, Status, UsageError
from volvex.source.outputs import Outputs, new_file

if TYPE_CHECKING:
    from volvex.asset.kind import AssetKind
    from volvex.data import Document
    from volvex.data.exchange import Wanted

PRIORITY = 22
WRITES = True
INPUTS = ("path.0", "like")
OUTPUTS = {"path.1": ""}
EXAMPLES = (
    "volvex convert game/data/almanac.kwp/tables/lenses.kwb lenses.csv",
    "volvex convert lenses.csv lenses.kwb --like game/data/almanac.kwp/tables/lenses.kwb",
    "volvex convert game/data/almanac.kwp/texts/menu.kwx menu.po --language de",
    "volvex convert game/data --to pictures --as tga --by archive",
    "volvex convert game/belfry --to music --as flac",
    "volvex convert game/slip --to models --as glb",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "path",
        nargs="+",
        metavar="PATH",
        help="FROM and TO: an entry or file, and the new file (.csv .xlsx .json .po .png .dds .wav ...); with --to "
        "any paths",
    )
    parser.add_argument("--like", metavar="PATH", help="the entry or file that FROM was made from")
    parser.add_argument("--palette", choices=("new",), help="with --like, for pictures: make the palette new for yours")
    parser.add_argument(
        "--loudness", choices=("original",), help="with --like, for sounds: make yours as loud as the game's own"
    )
    parser.add_argument("--sheet", metavar="NAME", help="the sheet, when the file has several: lamps")
    parser.add_argument("--row", metavar="ID", help="only this record (JSON)")
    parser.add_argument("--language", metavar="L", help="for texts: this language beside the source language")
    parser.add_argument(
        "--source-language", metavar="L", help="the language that is translated from (default: the first)"
    )
    parser.add_argument(
        "--to", dest="folder", type=Path, metavar="DIR", help="convert all pictures, sounds or models into this folder"
    )
    parser.add_argument(
        "--as",
        dest="extension",
        metavar="FORMAT",
        help="with --to: the format (default: png); with -: that of the stream",
    )
    parser.add_argument(
        "--by",
        choices=("path", "kind", "type", "archive"),
        default="path",
        help="with --to: folders by path, by kind (its format), by type of object, or by archive (default: path)",
    )
    parser.add_argument("--cluster", metavar="ADDRESS", help="with --to: let a Dask scheduler's workers do it")
    add_reading(parser)
    there = parser.add_mutually_exclusive_group()
    there.add_argument("--overwrite", action="store_true", help="replace existing files")
    there.add_argument("--skip-existing", action="store_true", help="with --to: skip files that exist")


def run(options: argparse.Namespace, context: Context) -> int:
    if options.folder is not None:
        options.extension = options.extension or "png"
        from volvex.command.ui.bulk import convert_assets

        return convert_assets(options, context)
    if len(options.path) != 2:
        raise UsageError(
            f"{count(len(options.path), 'path')} where FROM and TO are expected", "--to DIR to convert many pictures"
        )
    options.target, options.path = Path(options.path[1]), options.path[0]
    Outputs(context.disk, options.overwrite).check(options.target)
    from volvex.command.ui.asset import asset_in, convert_asset

    with open_walker(options, context) as walker:
        content = content_at(options.like or options.path, walker, context)
        try:
            kind = filetypes.kind_by_content(content.source.peek(0, filetypes.HEAD))
            is_text = kind in filetypes.TEXT  # text of a model may be meant as data
            found = asset_in(content, kind, walker, context, wanted=lambda kind: not is_text or _goes_to(kind, options))
            if found is not None:
                return convert_asset(*found, content, walker, options, context)
            return _data(content, walker, options, context)
        finally:
            content.source.close()


def _goes_to(kind: AssetKind[Any], options: argparse.Namespace) -> bool:
    """Whether an asset of a kind is converted: to one of its open formats, or into that of `--like`."""
    return bool(options.like) or options.target.suffix.lstrip(".").lower() in kind.extensions()


def _data(content: Content, walker: Walker, options: argparse.Namespace, context: Context) -> int:
    from volvex.data import require_data
    from volvex.data.exchange import Wanted, exported

    wanted = Wanted(options.sheet, options.row, options.language, options.source_language)
    document = require_data(content.source.read(0, content.source.size), walker.library, content.path)
    if options.like:
        return _back(options, context, document, wanted)
    data = exported(options.target.suffix, document, wanted)
    _write(options, data, context)
    records = sum(len(sheet) for sheet in document.sheets)
    context.print(f"{shown(str(options.target))}: {count(records, 'record')}, {number(len(data))} bytes")
    return Status.OK


def _back(options: argparse.Namespace, context: Context, document: Document, wanted: Wanted) -> int:
    from volvex.data.exchange import imported
    from volvex.data.verify import edited

    source = Path(options.path)
    if not source.is_file():
        raise NotFoundError(f"there is no file {source}")
    incoming = imported(source.suffix or options.extension or "", source.read_bytes(), document, wanted, str(source))
    data = edited(document, incoming.changes)
    _write(options, data, context)
    for note in incoming.notes:
        context.note(f"note: {note}")
    context.print(f"{shown(str(options.target))}: {count(len(incoming.changes), 'change')}, {number(len(data))} bytes")
    return Status.OK


def _write(options: argparse.Namespace, data: bytes, context: Context) -> None:
    with new_file(context.disk, options.target, options.overwrite) as out:
        context.disk.write(out, data)
