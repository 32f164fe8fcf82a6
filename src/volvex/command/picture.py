"""Draw pictures, models or movie frames on one sheet.

Paths are files, folders, archives, or patterns of them; everything that is a picture or a model is on the sheet, in the
order of its path. A movie that is named by its path is there with 28 frames spread over it, a model by itself large.
--turn, --animation and --each-lod draw one model several times: from all sides, in poses of an animation, its levels of
detail. Sheets hold 280 pictures; further ones are numbered: lamps.png, lamps-2.png.
"""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from volvex.archive import Walker
from volvex.archive.detect import filetypes
from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.faults import note_faults
from volvex.command.ui.model_views import ModelCells, add_model_views
from volvex.command.ui.reader import Content, add_reading, each_content, open_walker
from volvex.command.ui.table import count
from volvex.errors import NotFoundError, UsageError, VolvexError
from volvex.source.outputs import Outputs, new_file

if TYPE_CHECKING:
    from volvex.asset.sheet import Cell

PRIORITY = 14
WRITES = True
INPUTS = ("path",)
OUTPUTS = {"target": ".png"}
FRAMES = 28  # of a movie
COMPRESS = 3  # of PNG: a third of the time of 6, for a tenth more bytes
EXAMPLES = (
    "volvex picture game/data --to sheet.png",
    "volvex picture game/opening/opening.webm --to opening.png",
    'volvex picture "game/canvas/*.kwi" --to sails.png',
    "volvex picture game/slip/patience.kmm --to boat.png --animation patience_row",
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "path", nargs="+", metavar="PATH", help="a picture, a folder, an archive; * ? [ab] and ** match"
    )
    parser.add_argument("--to", dest="target", required=True, type=Path, metavar="FILE", help="the sheet, a PNG")
    add_model_views(parser)
    add_reading(parser)
    parser.add_argument("--overwrite", action="store_true", help="replace an existing file")


def run(options: argparse.Namespace, context: Context) -> int:
    from volvex.asset.sheet import COLUMNS, ROWS, distinct, drawn

    if options.target.suffix.lower() != ".png":
        raise UsageError(f"a sheet is a PNG file, not {shown(options.target.name)}", "--to sheet.png")
    outputs = Outputs(context.disk, options.overwrite)
    outputs.check(options.target)  # before anything is read
    faults: list[VolvexError] = []
    with open_walker(options, context) as walker:
        models = ModelCells(walker, context, options)
        if models.asked or len(options.path) == 1:
            drawing = models.page(options.path)
            if drawing is not None:
                with new_file(context.disk, options.target, options.overwrite) as out:
                    drawing.save(out, "PNG", compress_level=COMPRESS)
                context.print(f"{shown(str(options.target))}: {models.what}")
                return note_faults([*faults, *walker.faults], context)
        cells = distinct(list(_cells(options.path, walker, context, faults, models)))
        faults += walker.faults
    if not cells:
        note_faults(faults, context)
        raise NotFoundError("no picture or model at this path", "`volvex list` to list the files")
    plain = len(cells) - models.count
    kinds = [count(number, what) for number, what in ((plain, "picture"), (models.count, "model")) if number]
    said = " and ".join(kinds)
    per, target = COLUMNS * ROWS, options.target
    pages = range(-(-len(cells) // per))
    sheets = [target.with_stem(f"{target.stem}-{page + 1}") if page else target for page in pages]
    for own in sheets:  # all of them, before the first is written
        outputs.check(own)
    for page, own in zip(pages, sheets, strict=True):
        title = said + (f", sheet {page + 1}" if len(cells) > per else "")
        with new_file(context.disk, own, options.overwrite) as out:
            drawn(cells[page * per : (page + 1) * per], title).save(out, "PNG", compress_level=COMPRESS)
    names = ", ".join(shown(str(sheet)) for sheet in sheets)
    context.print(f"{names}: {said}")
    return note_faults(faults, context)


def _cells(
    paths: list[str], walker: Walker, context: Context, faults: list[VolvexError], models: ModelCells
) -> Iterator[Cell]:
    for path in paths:
        for content, _ in each_content(path, walker, context, deep=True):
            try:
                yield from _frames(content, walker) if content.path == path else ()
                cell = _cell(content, walker) or models.cell(content)
            except VolvexError as error:
                faults.append(error)
                continue
            finally:
                content.source.close()
            if cell is not None:
                yield cell


def _frames(content: Content, walker: Walker) -> Iterator[Cell]:
    """Frames of a movie, spread over it, each with its time."""
    import numpy as np

    from volvex.asset.movie.open import open_movie
    from volvex.asset.picture.open import is_picture
    from volvex.asset.sheet import CELL, Cell, small
    from volvex.asset.sound.describe import duration_text

    kind = filetypes.kind_by_content(content.source.peek(0, filetypes.HEAD))
    opened = open_movie(content.source, walker.library, True) if not is_picture(kind) else None
    if opened is None:
        return
    for time, pixels in opened.pictures(content.path, FRAMES, CELL, CELL):
        rgba = np.full((*pixels.shape[:2], 4), 255, np.uint8)
        rgba[..., :3] = pixels
        yield Cell(small(rgba), duration_text(time), content.path.rpartition("/")[2])


def _cell(content: Content, walker: Walker) -> Cell | None:
    from volvex.asset.picture.describe import size_text
    from volvex.asset.picture.open import may_be_picture, open_picture
    from volvex.asset.sheet import Cell, small

    if not may_be_picture(filetypes.kind_by_content(content.source.peek(0, filetypes.HEAD))):
        return None
    opened = open_picture(content.source, walker.library)
    if opened is None:
        return None
    picture = opened.picture
    name = content.path.rpartition("/")[2]
    about = f"{size_text(picture)}, {picture.form} {picture.format}"
    return Cell(small(picture.seen()), name, about, content.path)
