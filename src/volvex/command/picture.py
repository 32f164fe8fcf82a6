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
                cells = list(_shown(content, content.path == path, walker))
                if not cells and (cell := models.cell(content)) is not None:
                    cells = [cell]
            except VolvexError as error:
                faults.append(error)
                continue
            finally:
                content.source.close()
            yield from cells


def _shown(content: Content, named: bool, walker: Walker) -> Iterator[Cell]:
    """What there is to see of a picture, or of a movie that is named; nothing of anything else."""
    from volvex.asset.kind import kinds_for
    from volvex.asset.sheet import Cell, small

    name = content.path.rpartition("/")[2]
    for kind in kinds_for(filetypes.kind_by_content(content.source.peek(0, filetypes.HEAD))):
        if not kind.can("cells") or (kind.STREAMED and not named):
            continue
        asset = kind.opened(content.source, walker.library, thorough=named)
        if asset is not None:
            for pixels, label, about in kind.cells(asset, named):
                yield Cell(small(pixels), label or name, about, "" if label else content.path)
            return
