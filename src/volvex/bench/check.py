"""Checks before building: what the bench's changes break, and not what the game had already."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

from volvex.archive.detect import filetypes
from volvex.asset.sprite.lists import may_have_frames
from volvex.bench.changes import FileChange, changes
from volvex.bench.content import original_head
from volvex.bench.refusals import change_refusals
from volvex.bench.semantic_diff import LARGE, catalogues, touched
from volvex.bench.workbench import Workbench
from volvex.data import Document
from volvex.data.check import ERROR, WARNING, Problem, lost_keys, problems
from volvex.data.references import Catalogue
from volvex.data.text.document import TextData
from volvex.errors import ManyErrors, RefusedError, VolvexError
from volvex.source import BytesSource, FileSource

CAUSES = ("file", "kind")  # problems from which others follow: told first


def check(bench: Workbench, sound: Collection[str] = ()) -> list[Problem]:
    """What is wrong with the game's data since the bench's changes, the errors first.

    `sound`: changed files that were found sound in this state. Where data refers to other files, they are looked at all
    the same.
    """
    changed = changes(bench)
    meanings = bench.game.description.meanings
    if not meanings.references and not meanings.data:
        changed = [change for change in changed if change.path not in sound]
    if not changed:
        return []
    before, after = catalogues(bench)
    paths = touched(after, changed)
    was = {_same(problem) for problem in problems(before, paths)}
    made = [problem for problem in problems(after, paths) if _same(problem) not in was]
    refused = [Problem(ERROR, "file", path, "", "", "", *why) for path, *why in change_refusals(bench, changed)]
    misfits = _misfits(bench, changed)
    made = [*misfits.values(), *(problem for problem in made if problem.file not in misfits)]
    found = [_removed(cause, before) for cause in _with_causes(made, before)]
    changed = [change for change in changed if change.path not in misfits]
    paths = [path for path in paths if path not in misfits]
    assets = [change for change in changed if change.kind not in filetypes.TEXT or _is_text_asset(bench, change)]
    if assets:
        from volvex.bench.assets import asset_problems  # only here: it loads what decodes them

        found += [problem for change in assets for problem in asset_problems(bench, change)]
    sheets = [change for change in changed if _may_be_sheet(change, after)]
    if sheets:
        from volvex.bench.sprite_check import sprite_problems

        gone = {change.path for change in changed if change.what == "removed"}
        found += sprite_problems(bench, sheets, gone, after)
    found += [_unseen(change) for change in changed if change.kind in filetypes.TEXT and change.after > LARGE]
    for path in paths:
        old, new = before.document(path), after.document(path)
        if old is not None and new is not None and old is not new:
            found += lost_keys(path, old, new)
            found += _another_encoding(path, old, new)
    found += refused
    return sorted(found, key=lambda one: (one.level != ERROR, one.kind not in CAUSES, one.file, one.sheet))


def _is_text_asset(bench: Workbench, change: FileChange) -> bool:
    """Whether a changed or added file of text may be an asset: a model, by its beginning now or before, or a kind of
    another package's that takes text."""
    from volvex.asset.kind import kinds_for  # only here: it loads what decodes them
    from volvex.asset.kinds.model import KIND as MODEL
    from volvex.asset.model.formats import HEAD
    from volvex.asset.model.open import form_in

    if any(kind.NAME != MODEL.NAME for kind in kinds_for(change.kind)):
        return True

    file = bench.files / change.source
    if change.what == "removed" or not file.is_file():
        return False
    with FileSource(file, change.path) as source:
        if form_in(source, bench.library) is not None:
            return True
    head = original_head(bench, change.path, HEAD) if change.what == "changed" else b""
    return bool(head) and form_in(BytesSource(head, change.path), bench.library) is not None


def _may_be_sheet(change: FileChange, after: Catalogue) -> bool:
    """Whether a change may concern a sprite sheet: its picture, or a list of frames."""
    if change.what == "removed":
        return change.kind not in filetypes.TEXT
    document = after.document(change.path)
    return change.kind not in filetypes.TEXT if document is None else may_have_frames(document)


def _with_causes(found: list[Problem], before: Catalogue) -> list[Problem]:
    """Without the references into files that can no longer be read: those are counted where their cause is told."""
    broken = {
        problem.file: 0 for problem in found if problem.kind in CAUSES and before.document(problem.file) is not None
    }
    left = []
    for problem in found:
        file = next((name for name in _led_to(problem, before) if name in broken), None) if broken else None
        if file is None:
            left.append(problem)
        else:
            broken[file] += 1
    return [
        replace(
            problem,
            message=f"{problem.message}; {_references(broken[problem.file])} into this file cannot be followed until "
            f"then",
        )
        if problem.kind in CAUSES and broken.get(problem.file)
        else problem
        for problem in left
    ]


def _another_encoding(path: str, old: Document, new: Document) -> list[Problem]:
    """Text that an editor stored in another encoding than the game's own."""
    before, after = (one.encoding if isinstance(one, TextData) else "" for one in (old, new))
    if before == after or not before or not after or (isinstance(new, TextData) and bytes(new.raw).isascii()):
        return []
    return [
        Problem(
            ERROR,
            "encoding",
            path,
            "",
            "",
            "",
            f"this is in {after}, the game's own is in {before}",
            f"storing it in {before}",
        )
    ]


def _references(count: int) -> str:
    return "1 reference" if count == 1 else f"{count:,} references"


def _led_to(problem: Problem, before: Catalogue) -> list[str]:
    """The files in which a reference found its record before the changes."""
    if problem.kind != "reference":
        return []
    document = before.document(problem.file)
    sheet = next((found for found in document.sheets if found.name == problem.sheet), None) if document else None
    targets = (
        before.targets(problem.file, sheet, problem.field)
        if sheet is not None and problem.field in sheet.columns
        else None
    )
    row_id = problem.message.removeprefix("there is no ").partition(" in ")[0]
    return [file for file, target in targets or () if target.row(row_id) is not None]


def _misfits(bench: Workbench, changed: Collection[FileChange]) -> dict[str, Problem]:
    """Changed files that are of another kind than what they replace, by path."""
    from volvex.bench.fitting import misfit_of_file  # only here: it opens assets of every kind

    found = {}
    for change in changed:
        fault = misfit_of_file(bench, change.path, change.source) if change.what == "changed" else None
        if fault is not None and fault.kind == "kind":  # damage is reported where the file is read
            found[change.path] = Problem(ERROR, "kind", change.path, "", "", "", fault.message, fault.hint)
    return found


def _unseen(change: FileChange) -> Problem:
    """Text of a size that is not looked at as a whole."""
    return Problem(
        WARNING,
        "file",
        change.path,
        "",
        "",
        "",
        f"{change.after >> 20} MB of text: its values were not looked at",
        "`volvex changes` to see what differs",
    )


def _same(problem: Problem) -> tuple[str, ...]:
    """What makes two problems the same, before and after."""
    return problem.kind, problem.file, problem.sheet, problem.id, problem.field, problem.message


def _removed(problem: Problem, before: Catalogue) -> Problem:
    """A reference that leads nowhere since its record is gone says so."""
    if problem.kind != "reference":
        return problem
    row_id = problem.message.removeprefix("there is no ").partition(" in ")[0]
    document = before.document(problem.file)
    sheet = next((found for found in document.sheets if found.name == problem.sheet), None) if document else None
    row = sheet.row(problem.id) if sheet is not None else None
    if (
        sheet is not None
        and row is not None
        and problem.field in sheet.columns
        and sheet.cell(row, problem.field) == row_id
    ):
        return replace(
            problem, message=f"refers to {row_id}, which you removed", hint="keeping that record, or another id here"
        )
    return problem


def refuse_errors(found: list[Problem]) -> None:
    """Nothing when no problem stops the game; RefusedError with all that do otherwise."""
    errors: list[VolvexError] = [
        RefusedError(problem.told, problem.hint) for problem in found if problem.level == ERROR
    ]
    if len(errors) == 1:
        raise errors[0]
    if errors:
        raise ManyErrors(errors)
