"""Prove a layout: read, rewrite and compare every byte.

Every part is placed, every number computed and every checksum verified again; all entries are decoded. Status 1: the result
differs; the first different byte is reported, with the field that covers it.

With --harder the archive is also changed in memory: entries grow, shrink, become empty, are removed and added; each result
is read again, compared and proved. A folder stands for all archives below it.
"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

import numpy as np

from volvex.archive import Archive, LayoutArchive
from volvex.archive.mutation_proof import prove_harder
from volvex.archive.safe_names import shown
from volvex.archive.transfer.parallel import verify
from volvex.command.ui.context import Context
from volvex.command.ui.data import laid_out
from volvex.command.ui.faults import note_faults
from volvex.command.ui.reader import add_reading, open_walker
from volvex.command.ui.table import count, number
from volvex.errors import ManyErrors, NotFoundError, Status
from volvex.layout.inspect.proof import Difference, check_objects, prove

if TYPE_CHECKING:
    from volvex.data.model.layout_document import LayoutDocument

PRIORITY = 51
EXAMPLES = (
    "volvex layout prove game/isles",
    "volvex layout prove game/data/main.kwp --harder",
)
STATUSES = {Status.DIFFERS: "the result differs"}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "archive", nargs="+", metavar="ARCHIVE", help="an archive, a table, texts or a scene, or a pattern"
    )
    parser.add_argument("--harder", action="store_true", help="also change it in every way and read it again")
    add_reading(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    status = Status.OK
    with open_walker(options, context) as walker:
        data = {path: one for path in options.archive if (one := laid_out(path, walker, context)) is not None}
        for path, document in data.items():
            status = max(status, _prove_data(path, document, context))
        others = [path for path in options.archive if path not in data]
        archives = {group.path: group.archive for path in others for group in walker.find(path, deep=True).groups}
        if not archives and not data and walker.faults:
            raise walker.faults[0] if len(walker.faults) == 1 else ManyErrors(list(walker.faults))
        if not archives and not data:
            raise NotFoundError("unknown format: no layout reads what was named", "--layout FILE")
        for path, archive in archives.items():
            status = max(status, _prove(path, archive, context))
            if options.harder:
                status = max(status, _prove_harder(archive, context))
        return max(int(status), note_faults(walker.faults, context))


def _prove_data(path: str, document: LayoutDocument, context: Context) -> Status:
    proof = prove(document.reading)
    records = sum(len(sheet) for sheet in document.sheets)
    if proof.difference is not None:
        return _tell_difference(path, proof.difference, context)
    context.print(
        f"{shown(path)}: {context.paint('identical', 'green')}, {number(proof.size)} bytes; {document.form} of {count(records, 'record')}"
    )
    return Status.OK


def _tell_difference(path: str, difference: Difference, context: Context) -> Status:
    context.print(f"{shown(path)}: {context.paint('differs', 'red')} at {difference.offset:#x}, in {shown(difference.field.name)}"
                  + (f" ({difference.field.meaning})" if difference.field.meaning else ""))  # fmt: skip
    context.print(
        f"  the file has {difference.original.hex(' ') or 'nothing more'}, the layout makes {difference.written.hex(' ') or 'nothing more'}"
    )
    return Status.DIFFERS


def _prove_harder(archive: Archive, context: Context) -> Status:
    trials = list(prove_harder(archive))
    for trial in trials:
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


def _prove(path: str, archive: Archive, context: Context) -> Status:
    with context.progress("proving", archive.source.size + int(archive.entries.size.sum())) as on_progress:
        proof = archive.prove(on_progress)
        if isinstance(archive, LayoutArchive):
            check_objects(archive.reading)
        faults = verify(archive, np.arange(len(archive)), on_progress)
    status = note_faults(faults, context)
    if proof.difference is not None:
        return _tell_difference(path, proof.difference, context)
    sound = len(archive) - len(faults)
    context.print(f"{shown(path)}: {context.paint('identical', 'green')}, {number(proof.size)} bytes; "
                  f"{count(sound, 'entry decodes', 'entries decode')}" + (f", {len(faults):,} do not" if faults else ""))  # fmt: skip
    return Status(status)
