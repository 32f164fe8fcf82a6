"""Prove a layout: read, rewrite and compare every byte.

Every part is placed, every number computed and every checksum verified again; all entries are decoded. Status 1: the
result differs; the first different byte is reported, with the field that covers it.

Identical bytes do not show that a layout is right for other content. So what the file shows and the layout does not say
is reported as hints, each with the line that says it: starts at multiples of 32, sorted records, a number that is a
size. With --strict a hint is a failure. With --harder the archive is also changed in memory: the first, last and middle
entries grow, shrink, become empty and are removed, others are added under names of many lengths and in a new folder;
all are written in another order, taken out and put back. Each result is read again, compared and proved, and a kept
number that equalled a count, a length or a place must equal it still. Several files of one layout
show together with what their kept numbers move. A folder stands for all archives below it.
"""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from volvex.archive import Archive, LayoutArchive, Walker
from volvex.archive.detect import filetypes
from volvex.archive.mutation_proof import prove_harder
from volvex.archive.safe_names import shown
from volvex.archive.transfer.parallel import verify
from volvex.asset.kind import Proof, proof_of
from volvex.command.ui.context import Context
from volvex.command.ui.data import laid_out
from volvex.command.ui.faults import note_faults
from volvex.command.ui.reader import add_reading, content_at, open_walker
from volvex.command.ui.table import count, number
from volvex.errors import ManyErrors, NotFoundError, Status, VolvexError
from volvex.layout.inspect.equal import moving
from volvex.layout.inspect.hints import Hint, hints_of
from volvex.layout.inspect.proof import Difference, check_objects, prove
from volvex.layout.inspect.unshown import unshown
from volvex.source import BytesSource

if TYPE_CHECKING:
    from volvex.data.model.layout_document import LayoutDocument

PRIORITY = 51
INPUTS = ("archive",)
EXAMPLES = (
    "volvex layout prove game/isles",
    "volvex layout prove game/data/main.kwp --harder",
)
STATUSES = {Status.DIFFERS: "the result differs, or with --strict: there are hints"}
MOST_VALUES = 5  # values of a field in several files that are shown
MOST_UNSHOWN = 4  # things that a file did not show, which are named
SHOWN = 12  # hints of a file that are printed


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "archive", nargs="+", metavar="ARCHIVE", help="an archive, a table, texts or a scene, or a pattern"
    )
    parser.add_argument("--strict", action="store_true", help="status 1 when there are hints")
    parser.add_argument("--harder", action="store_true", help="also change it in every way and read it again")
    add_reading(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    status = int(Status.OK)
    others = []
    with open_walker(options, context) as walker:
        for path in options.archive:
            proof = _proof_at(path, walker, context)
            if proof is not None:
                status = max(status, _prove_file(path, proof, options, context))
            else:
                others.append(path)
        archives = {
            group.archive_path: group.archive for path in others for group in walker.find(path, deep=True).groups
        }
        known = bool(archives) or len(others) < len(options.archive)
        if not known and walker.faults:
            raise walker.faults[0] if len(walker.faults) == 1 else ManyErrors(list(walker.faults))
        if not known:
            raise NotFoundError("unknown format: no layout reads these files", "--layout FILE")
        for path, archive in archives.items():
            status = max(status, _prove(path, archive, options, context))
            if options.harder:
                status = max(status, _prove_harder(archive, context))
        if _tell_moving(list(archives.values()), context) and options.strict:
            status = max(status, Status.DIFFERS)
        return max(status, note_faults(walker.faults, context))


def _tell_moving(archives: Sequence[Archive], context: Context) -> bool:
    """Print what several files of one layout show together: kept numbers that differ, and with what they move; whether
    one is known."""
    layouts: dict[str, list[LayoutArchive]] = {}
    for archive in archives:
        if isinstance(archive, LayoutArchive):
            layouts.setdefault(archive.layout.file, []).append(archive)
    known = False
    for together in layouts.values():
        for found in moving([archive.reading for archive in together]) if len(together) > 1 else ():
            values = ", ".join(f"{value:,}" for value in found.values[:MOST_VALUES])
            values += ", ..." if len(found.values) > MOST_VALUES else ""
            context.account(field=found.where, values=list(found.values), moves_with=found.words)
            if found.words:
                known = True
                told = f"{found.where} is {values} in {len(together)} files: always `{found.words}`"
                context.print(f"  {context.paint('hint', 'yellow')}  {shown(told)}")
                context.print(f"        try  {shown(f'{found.line}  is {found.words}')}")
            else:
                context.print(f"  kept  {shown(found.where)} differs between the files ({values}), with nothing known")
    return known


def _proof_at(path: str, walker: Walker, context: Context) -> Proof | None:
    """How what is at a path is proved: data or an asset in a format of a game's own; None for anything else."""
    document = laid_out(path, walker, context)
    if document is not None:
        return _proof_of_data(document, context)
    source = _bytes_at(path, walker, context)
    return proof_of(source, walker.library) if source is not None else None


def _bytes_at(path: str, walker: Walker, context: Context) -> BytesSource | None:
    """What is at a path, if it is in no open format; None when nothing is."""
    try:
        content = content_at(path, walker, context)
    except VolvexError:
        return None
    try:
        if filetypes.kind_by_content(content.source.peek(0, filetypes.HEAD)) != "binary":
            return None
        own = BytesSource(content.source.read(0, content.source.size), content.path)
        own.beside = content.source.beside
    finally:
        content.source.close()
    return own


def _proof_of_data(document: LayoutDocument, context: Context) -> Proof:
    from volvex.data.hash_hints import hash_hints

    records = sum(len(sheet) for sheet in document.sheets)

    def hints() -> list[Hint]:
        for sheet in document.sheets:
            for column in sheet.columns.values():
                column.values  # noqa: B018  (what it refers to must be there)
        return [*hints_of(document.reading), *hash_hints(document, context.dictionaries())]

    about = f"{document.form} of {count(records, 'record')}"
    return Proof(document.reading, about, hints, lambda: iter(()))


def _prove_file(path: str, proof: Proof, options: argparse.Namespace, context: Context) -> int:
    """Prove the layout of one file that is no archive; the status."""
    result = prove(proof.reading)
    if result.difference is not None:
        return _tell_difference(path, result.difference, context)
    status = _tell_hints(path, f"{number(result.size)} bytes; {proof.about}", proof.hints(), options, context)
    for what, fault in proof.changes() if options.harder else ():
        context.account(path=path, trial=what, tried=True, refused=False, fault=fault)
        context.print(f"  {context.paint('fails' if fault else 'holds', 'red' if fault else 'green')}: {what}")
        if fault:
            context.print(f"         {shown(fault)}")
            status = Status.DIFFERS
    return status


def _tell_hints(
    path: str,
    said: str,
    hints: Sequence[Hint],
    options: argparse.Namespace,
    context: Context,
    missing: Sequence[str] = (),
) -> Status:
    """Print the result of a proof with its hints; the status."""
    found = f"; {context.paint(count(len(hints), 'hint'), 'yellow')}" if hints else ""
    context.print(f"{shown(path)}: {context.paint('identical', 'green')}, {said}{found}")
    told = [{"seen": hint.seen, "line": hint.line} for hint in hints]
    context.account(path=path, result="identical", about=said, hints=told, not_shown=list(missing))
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
        f"  the file has {difference.original.hex(' ') or 'nothing more'}, the layout makes "
        f"{difference.written.hex(' ') or 'nothing more'}"
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
    missing = list(unshown(archive.reading)) if isinstance(archive, LayoutArchive) else []
    status = max(Status(status), _tell_hints(path, said, hints, options, context, missing))
    _tell_unshown(missing, context)
    return status


def _tell_unshown(missing: Sequence[str], context: Context) -> None:
    """Print what this file could not show."""
    if missing:
        more = f", and {count(len(missing) - MOST_UNSHOWN, 'more thing')}" if len(missing) > MOST_UNSHOWN else ""
        context.print(f"  not shown: {shown('; '.join(missing[:MOST_UNSHOWN]))}{more}")


def _hints(archive: Archive, context: Context) -> list[Hint]:
    """What the file shows and the layout does not say; nothing for an open format, which has no layout."""
    if not isinstance(archive, LayoutArchive):
        return []
    from volvex.archive.content_hints import content_hints
    from volvex.names.hash_hints import hash_hints

    return [*hints_of(archive.reading), *content_hints(archive), *hash_hints(archive, context.dictionaries())]
