"""Checks before building: what the bench's changes break, and not what the game had already."""

from __future__ import annotations

from dataclasses import replace

from volvex.archive import filetypes
from volvex.bench.changes import Change, changes
from volvex.bench.meaning import LARGE, catalogues, touched
from volvex.bench.workbench import Workbench
from volvex.data.checking import ERROR, WARNING, Problem, lost_keys, problems
from volvex.data.references import Catalogue
from volvex.errors import ManyErrors, RefusedError, VolvexError


def check(bench: Workbench) -> list[Problem]:
    """What is wrong with the game's data since the bench's changes, the errors first."""
    changed = changes(bench)
    if not changed:
        return []
    before, after = catalogues(bench)
    paths = touched(after, changed)
    was = {_same(one) for one in problems(before, paths)}
    found = [_removed(one, before) for one in problems(after, paths) if _same(one) not in was]
    found += [_unseen(one) for one in changed if one.kind in filetypes.TEXT and one.after > LARGE]
    for path in paths:
        old, new = before.document(path), after.document(path)
        if old is not None and new is not None and old is not new:
            found += lost_keys(path, old, new)
    return sorted(found, key=lambda one: (one.level != ERROR, one.file, one.sheet))


def _unseen(one: Change) -> Problem:
    """Text of a size that is not looked at as a whole."""
    return Problem(WARNING, "file", one.path, "", "", "", f"{one.after >> 20} MB of text: its values were not looked at",
                   "`volvex changes` to see what differs")  # fmt: skip


def _same(one: Problem) -> tuple[str, ...]:
    """What makes two problems the same, before and after."""
    return one.sort, one.file, one.sheet, one.key, one.field, one.message


def _removed(one: Problem, before: Catalogue) -> Problem:
    """A reference that leads nowhere since its record is gone says so."""
    if one.sort != "reference":
        return one
    key = one.message.removeprefix("there is no ").partition(" in ")[0]
    document = before.document(one.file)
    sheet = next((found for found in document.sheets if found.name == one.sheet), None) if document else None
    row = sheet.row(one.key) if sheet is not None else None
    if sheet is not None and row is not None and one.field in sheet.columns and sheet.cell(row, one.field) == key:
        said = one.message.removeprefix("there is no ").partition(" (")[0].replace(" in ", " was removed from ", 1)
        return replace(one, message=f"{said} and is still used here", hint="keeping that record, or another key here")
    return one


def refuse_errors(found: list[Problem]) -> None:
    """Nothing when no problem stops the game; RefusedError with all that do otherwise."""
    errors: list[VolvexError] = [RefusedError(one.told, one.hint) for one in found if one.level == ERROR]
    if len(errors) == 1:
        raise errors[0]
    if errors:
        raise ManyErrors(errors)
