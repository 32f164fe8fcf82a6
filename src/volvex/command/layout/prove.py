"""Prove a layout: read, rewrite and compare every byte.

Every part is placed, every number computed and every checksum verified again; all entries are decoded. Status 1: the result
differs; the first different byte is reported, with the field that covers it.

Identical bytes do not show that a layout is right for other content. So what the file shows and the layout does not say is
reported as hints, each with the line that says it: starts at multiples of 32, sorted records, a number that is a size. With
--strict a hint is a failure. With --harder the archive is also changed in memory: the first, last and middle entries grow, shrink,
become empty and are removed, others are added under names of many lengths and in a new folder; all are written in another
order, taken out and put back. Each result is read again, compared and proved. A folder stands for all archives below it.
"""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from volvex.archive import Archive, LayoutArchive
from volvex.archive.mutation_proof import prove_harder
from volvex.archive.safe_names import shown
from volvex.archive.transfer.parallel import verify
from volvex.command.ui.context import Context
from volvex.command.ui.data import laid_out
from volvex.command.ui.faults import note_faults
from volvex.command.ui.own_asset import own_model, own_movie, own_picture, own_sound
from volvex.command.ui.reader import add_reading, open_walker
from volvex.command.ui.table import count, number
from volvex.errors import ManyErrors, NotFoundError, Status
from volvex.layout.inspect.hints import Hint, hints_of
from volvex.layout.inspect.proof import Difference, check_objects, prove
from volvex.source import BytesSource, Source

if TYPE_CHECKING:
    from volvex.asset.layout_picture import LayoutForm
    from volvex.asset.models.layout_model import LayoutModel
    from volvex.asset.models.model import Model
    from volvex.asset.movies.layout_movie import LayoutMovie
    from volvex.asset.picture import Picture
    from volvex.asset.sounds.layout_sound import LayoutSound
    from volvex.asset.sounds.sound import Sound
    from volvex.data.model.layout_document import LayoutDocument

PRIORITY = 51
INPUTS = ("archive",)
EXAMPLES = (
    "volvex layout prove game/isles",
    "volvex layout prove game/data/main.kwp --harder",
)
STATUSES = {Status.DIFFERS: "the result differs, or with --strict: there are hints"}
SHOWN = 12  # hints of a file that are printed


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "archive", nargs="+", metavar="ARCHIVE", help="an archive, a table, texts or a scene, or a pattern"
    )
    parser.add_argument("--strict", action="store_true", help="status 1 when there are hints")
    parser.add_argument("--harder", action="store_true", help="also change it in every way and read it again")
    add_reading(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    status = Status.OK
    with open_walker(options, context) as walker:
        data = {path: one for path in options.archive if (one := laid_out(path, walker, context)) is not None}
        for path, document in data.items():
            status = max(status, _prove_data(path, document, options, context))
        paths = [path for path in options.archive if path not in data]
        textures = {path: texture for path in paths if (texture := own_picture(path, walker, context)) is not None}
        for path, (form, picture) in textures.items():
            status = max(status, _prove_picture(path, form, picture, options, context))
        others = [path for path in paths if path not in textures]
        sounds = {path: own for path in others if (own := own_sound(path, walker, context)) is not None}
        for path, opened in sounds.items():
            status = max(status, _prove_sound(path, *opened, options, context))
        others = [path for path in others if path not in sounds]
        movies = {path: movie for path in others if (movie := own_movie(path, walker, context)) is not None}
        for path, (kept, source) in movies.items():
            status = max(status, _prove_movie(path, kept, source, options, context))
        others = [path for path in others if path not in movies]
        models = {path: model for path in others if (model := own_model(path, walker, context)) is not None}
        for path, read in models.items():
            status = max(status, _prove_model(path, *read, options, context))
        others = [path for path in others if path not in models]
        archives = {
            group.archive_path: group.archive for path in others for group in walker.find(path, deep=True).groups
        }
        known = bool(archives or data or textures or sounds or movies or models)
        if not known and walker.faults:
            raise walker.faults[0] if len(walker.faults) == 1 else ManyErrors(list(walker.faults))
        if not known:
            raise NotFoundError("unknown format: no layout reads these files", "--layout FILE")
        for path, archive in archives.items():
            status = max(status, _prove(path, archive, options, context))
            if options.harder:
                status = max(status, _prove_harder(archive, context))
        return max(int(status), note_faults(walker.faults, context))


def _prove_data(path: str, document: LayoutDocument, options: argparse.Namespace, context: Context) -> Status:
    proof = prove(document.reading)
    records = sum(len(sheet) for sheet in document.sheets)
    for sheet in document.sheets:
        for column in sheet.columns.values():
            column.values  # noqa: B018  (what it refers to must be there)
    if proof.difference is not None:
        return _tell_difference(path, proof.difference, context)
    said = f"{number(proof.size)} bytes; {document.form} of {count(records, 'record')}"
    from volvex.data.hash_hints import hash_hints

    hints = [*hints_of(document.reading), *hash_hints(document, context.dictionaries())]
    return _tell_hints(path, said, hints, options, context)


def _prove_picture(
    path: str, form: LayoutForm, picture: Picture, options: argparse.Namespace, context: Context
) -> Status:
    from volvex.asset.describe import size_text
    from volvex.asset.picture_proof import change_fault, picture_hints

    proof = prove(picture.extra["reading"])
    if proof.difference is not None:
        return _tell_difference(path, proof.difference, context)
    said = f"{number(proof.size)} bytes; a picture of {size_text(picture)}, {count(picture.levels, 'level')}"
    status = _tell_hints(path, said, list(picture_hints(picture)), options, context)
    if options.harder:
        fault = change_fault(form, picture)
        context.print(
            f"  {context.paint('fails' if fault else 'holds', 'red' if fault else 'green')}: a pixel of each level changed"
        )
        if fault:
            context.print(f"         {shown(fault)}")
            return Status.DIFFERS
    return status


def _prove_sound(path: str, form: LayoutSound, sound: Sound, options: argparse.Namespace, context: Context) -> Status:
    from volvex.asset.sounds.describe import short_text
    from volvex.asset.sounds.sound_proof import sound_change_faults, sound_hints

    proof = prove(sound.extra["reading"])
    if proof.difference is not None:
        return _tell_difference(path, proof.difference, context)
    said = f"{number(proof.size)} bytes; a sound of {short_text(sound)}"
    status = _tell_hints(path, said, list(sound_hints(sound, form.spec_of(sound))), options, context)
    for what, fault in sound_change_faults(form, sound) if options.harder else ():
        context.print(f"  {context.paint('fails' if fault else 'holds', 'red' if fault else 'green')}: {what}")
        if fault:
            context.print(f"         {shown(fault)}")
            status = Status.DIFFERS
    return status


def _prove_movie(path: str, form: LayoutMovie, source: Source, options: argparse.Namespace, context: Context) -> Status:
    reading, streams, packets = form.read(source)
    proof = prove(reading)
    if proof.difference is not None:
        return _tell_difference(path, proof.difference, context)
    said = f"{number(proof.size)} bytes; a movie of {streams.width} x {streams.height}, {count(len(packets), 'packet')}"
    status = _tell_hints(path, said, list(hints_of(reading)), options, context)
    if options.harder:
        holds = form.read(BytesSource(form.written(source, form.as_open(source)), source.name))[2] == packets
        context.print(
            f"  {context.paint('holds' if holds else 'fails', 'green' if holds else 'red')}: into an open container and back"
        )
        status = status if holds else Status.DIFFERS
    return status


def _prove_model(path: str, form: LayoutModel, model: Model, options: argparse.Namespace, context: Context) -> Status:
    from volvex.asset.models.describe import short_text
    from volvex.asset.models.model_proof import model_change_faults, model_hints

    proof = prove(model.extra["reading"])
    if proof.difference is not None:
        return _tell_difference(path, proof.difference, context)
    said = f"{number(proof.size)} bytes; {form.layout.kind}: {short_text(model)}"
    status = _tell_hints(path, said, list(model_hints(model)), options, context)
    for what, fault in model_change_faults(form, model) if options.harder else ():
        context.print(f"  {context.paint('fails' if fault else 'holds', 'red' if fault else 'green')}: {what}")
        if fault:
            context.print(f"         {shown(fault)}")
            status = Status.DIFFERS
    return status


def _tell_hints(path: str, said: str, hints: Sequence[Hint], options: argparse.Namespace, context: Context) -> Status:
    """Print the result of a proof with its hints; the status."""
    found = f"; {context.paint(count(len(hints), 'hint'), 'yellow')}" if hints else ""
    context.print(f"{shown(path)}: {context.paint('identical', 'green')}, {said}{found}")
    told = [{"seen": hint.seen, "line": hint.line} for hint in hints]
    context.account(path=path, result="identical", about=said, hints=told)
    for hint in hints[:SHOWN]:
        context.print(f"  {context.paint('hint', 'yellow')}  {shown(hint.seen)}")
        if hint.line:
            context.print(f"        try  {shown(hint.line)}")
    if len(hints) > SHOWN:
        context.print(f"  and {count(len(hints) - SHOWN, 'more hint')}")
    return Status.DIFFERS if hints and options.strict else Status.OK


def _tell_difference(path: str, difference: Difference, context: Context) -> Status:
    context.account(
        path=path,
        result="differs",
        offset=difference.offset,
        field=difference.field.name,
        original=difference.original.hex(),
        written=difference.written.hex(),
    )
    context.print(
        f"{shown(path)}: {context.paint('differs', 'red')} at {difference.offset:#x}, in {shown(difference.field.name)}"
        + (f" ({difference.field.meaning})" if difference.field.meaning else "")
    )
    context.print(
        f"  the file has {difference.original.hex(' ') or 'nothing more'}, the layout makes {difference.written.hex(' ') or 'nothing more'}"
    )
    return Status.DIFFERS


def _prove_harder(archive: Archive, context: Context) -> Status:
    trials = list(prove_harder(archive))
    for trial in trials:
        fault = " ".join(trial.fault.lines(context.author)) if trial.fault else ""
        context.account(
            path=archive.source.name, trial=trial.what, tried=trial.tried, refused=trial.refused, fault=fault
        )
        if not trial.tried:
            context.print(f"  {context.paint('not tried', 'yellow')}: {trial.what}")
            continue
        said = context.paint("cannot be" if trial.refused else "fails", "yellow" if trial.refused else "red")
        said = said if trial.fault else context.paint("holds", "green")
        context.print(f"  {said}: {trial.what}")
        for line in trial.fault.lines(context.author) if trial.fault else ():
            context.print(f"         {line}")
    failed = any((trial.fault and not trial.refused) or not trial.tried for trial in trials)
    return Status.DIFFERS if failed else Status.OK


def _prove(path: str, archive: Archive, options: argparse.Namespace, context: Context) -> Status:
    with context.progress("proving", archive.source.size + int(archive.entries.size.sum())) as on_progress:
        proof = archive.prove(on_progress)
        if isinstance(archive, LayoutArchive):
            check_objects(archive.reading)
        faults = verify(archive, np.arange(len(archive)), on_progress)
    hints, wrong = _hints(archive, context), len(faults)
    content = int((archive.entries.stored > 0).sum())
    if faults and len(faults) >= max(2, content):  # one cause: told once
        context.complain(f"{shown(path)}: none of {content:,} entries is right; the first:")
        faults = faults[:1]
    status = note_faults(faults, context)
    if proof.difference is not None:
        return _tell_difference(path, proof.difference, context)
    sound = len(archive) - wrong
    said = f"{number(proof.size)} bytes; {count(sound, 'entry decodes', 'entries decode')}" + (
        f", {len(archive) - sound:,} do not" if wrong else ""
    )
    return max(Status(status), _tell_hints(path, said, hints, options, context))


def _hints(archive: Archive, context: Context) -> list[Hint]:
    """What the file shows and the layout does not say; nothing for an open format, which has no layout."""
    if not isinstance(archive, LayoutArchive):
        return []
    from volvex.archive.content_hints import content_hints
    from volvex.names.hash_hints import hash_hints

    return [*hints_of(archive.reading), *content_hints(archive), *hash_hints(archive, context.dictionaries())]
