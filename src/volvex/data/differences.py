"""What differs between two states of a file, by id and field; and putting that into a third one.

The merge is three-way: a change knows what was there before. Where the third file still has that, the change is made;
where it has what the change would make, nothing is to do; anything else is a conflict, which is told and never decided.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.data.model.sheet import Array, Change, Column, Document, Sheet
from volvex.errors import FormatError
from volvex.source import typed

NONE = Sheet("", (), 0)


def differences(before: Document, after: Document) -> list[Change]:
    """Every difference, sheet by sheet, in the order of the records."""
    old, new = ({sheet.name: sheet for sheet in document.sheets} for document in (before, after))
    names = dict.fromkeys([*old, *new])
    return [sheet for name in names for sheet in _of_sheets(name, old.get(name, NONE), new.get(name, NONE))]


def _of_sheets(name: str, old: Sheet, new: Sheet) -> Iterator[Change]:
    if len(old) == len(new) and _same_keys(old, new):
        yield from _of_cells(name, old, new, np.arange(len(old)), np.arange(len(new)))
        return
    both = [row_id for row_id in new.ids if row_id in old.rows]
    yield from _of_cells(name, old, new, _rows(old, both), _rows(new, both))
    for row_id in old.ids:
        if row_id not in new.rows:
            yield Change("remove", name, row_id, fields=tuple(old.record(old.rows[row_id]).items()))
    for row_id in new.ids:
        if row_id not in old.rows:
            yield Change("add", name, row_id, fields=tuple(new.record(new.rows[row_id]).items()))


def _same_keys(old: Sheet, new: Sheet) -> bool:
    """Whether both have the same ids in the same order, found out without making texts of them."""
    if old.id and old.id == new.id and "ids" not in vars(old):
        return all(bool(_equal(old.columns[name].values, new.columns[name].values).all()) for name in old.id)
    return old.ids == new.ids


def _rows(sheet: Sheet, ids: Sequence[str]) -> Array:
    return np.array([sheet.rows[row_id] for row_id in ids], np.int64)


def _of_cells(name: str, old: Sheet, new: Sheet, left: Array, right: Array) -> Iterator[Change]:
    found: list[tuple[int, Change]] = []
    if old.cells is not None and new.cells is not None:
        for one_row, row in zip(left.tolist(), right.tolist(), strict=True):
            was, now = old.cells[one_row], new.cells[row]
            if was != now:
                fields = (field for field in {**was, **now} if was.get(field) != now.get(field))
                yield from (
                    Change("set", name, new.ids[row], field, was.get(field), now.get(field)) for field in fields
                )
        return
    for field in dict.fromkeys([*old.columns, *new.columns]):
        column, other = old.columns.get(field), new.columns.get(field)
        for at in _differing(column, other, left, right).tolist():
            row = int(right[at])
            before = column.text(int(left[at])) if column is not None else None
            after = other.text(row) if other is not None else None
            if before != after:
                found.append((row, Change("set", name, new.ids[row], field, before, after)))
    yield from (change for _, change in sorted(found, key=lambda pair: pair[0]))


def _differing(column: Column | None, other: Column | None, left: Array, right: Array) -> Array:
    """Where two columns differ, among pairs of rows."""
    if column is None or other is None:
        return np.arange(len(left))
    return np.flatnonzero(~_equal(column.values[left], other.values[right]))


def _equal(values: Array, other: Array) -> Array:
    """Whether cells are the same, bit for bit."""
    if values.dtype == other.dtype and values.dtype.kind == "f":
        kind = f"u{values.dtype.itemsize}"
        return np.asarray(values.view(kind) == other.view(kind))
    if len(values) != len(other):
        return np.zeros(max(len(values), len(other)), bool)
    return np.asarray(values == other, bool)


@dataclass(frozen=True)
class Conflict:
    """A change that cannot be made: what is there instead of what was before."""

    change: Change
    found: str

    def __str__(self) -> str:
        change = self.change
        if change.what == "set":
            return (
                f"{change.sheet}: row {change.id}: {change.field} was {change.before!r}, is {self.found} now, the "
                f"change makes it {change.after!r}"
            )
        return (
            f"{change.sheet}: row {change.id} was to be {'added' if change.what == 'add' else 'removed'}: {self.found}"
        )


@dataclass(frozen=True)
class Merged:
    """What is to be made of changes in a file: those to make, those that are made already, and conflicts."""

    todo: list[Change]
    done: list[Change]
    conflicts: list[Conflict]


def merged(changes: Iterable[Change], document: Document) -> Merged:
    """Changes against a file that others may have changed."""
    sheets = {sheet.name: sheet for sheet in document.sheets}
    made = Merged([], [], [])
    for change in changes:
        sheet = sheets.get(change.sheet, NONE)
        row = sheet.row(change.id)
        found = (
            _set(change, sheet, row)
            if change.what == "set"
            else _added(change, sheet, row)
            if change.what == "add"
            else _removed(change, sheet, row)
        )
        if isinstance(found, Conflict):
            made.conflicts.append(found)
        else:
            (made.done if found else made.todo).append(change)
    return made


def _set(change: Change, sheet: Sheet, row: int | None) -> Conflict | bool:
    if row is None:
        return Conflict(change, "in a record that is gone")
    now = sheet.cell(row, change.field) if change.field in sheet.columns else None
    if now == change.after:
        return True
    return False if now == change.before else Conflict(change, repr(now) if now is not None else "gone")


def _added(change: Change, sheet: Sheet, row: int | None) -> Conflict | bool:
    if row is None:
        return Conflict(change, "the file has no such records any more") if not len(sheet) else False
    return True if sheet.record(row) == dict(change.fields) else Conflict(change, "another record has this id")


def _removed(change: Change, sheet: Sheet, row: int | None) -> Conflict | bool:
    if row is None:
        return True
    now, before = sheet.record(row), dict(change.fields)
    other = next((name for name in {**now, **before} if now.get(name) != before.get(name)), None)
    return (
        False
        if other is None
        else Conflict(change, f"its {other} has changed from {before.get(other)!r} to {now.get(other)!r}")
    )


# changes as they are stored


def plain(change: Change) -> dict[str, Any]:
    """A change for a file in JSON: without what it has not."""
    record: dict[str, Any] = {"what": change.what, "sheet": change.sheet, "id": change.id}
    if change.what == "set":
        return record | {"field": change.field, "before": change.before, "after": change.after}
    return record | {"fields": dict(change.fields)} | ({"like": change.like} if change.like else {})


def change_of(value: Mapping[str, Any], file: str) -> Change:
    """The change in a record of JSON; FormatError when it is none."""
    try:
        what = typed.mapping(value)["what"]
        texts = [value["sheet"], value["id"], value.get("field", ""), value.get("like", "")]
        if what not in ("set", "add", "remove") or not all(isinstance(text, str) for text in texts):
            raise ValueError(what)
        before, after = value.get("before"), value.get("after")
        fields = tuple((str(name), one) for name, one in value.get("fields", {}).items())
        if not all(one is None or isinstance(one, str) for one in (before, after, *(one for _, one in fields))):
            raise ValueError("a value that is not text")
        return Change(what, texts[0], texts[1], texts[2], before, after, fields, texts[3])
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise FormatError(
            file, f"not a change: {error!r}", hint="the file as `volvex changes --save` wrote it"
        ) from error
