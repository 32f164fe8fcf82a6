"""Values that come back from an open form: compared with what is there, checked, made into changes.

Nothing is taken from how a program shows a number: a value that is the same number, or is what a spreadsheet makes of
it, is no change; one that a spreadsheet has spoilt (leading zeros gone, a long id rounded, a text made a date) is a
fault.
"""

from __future__ import annotations

import functools
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from volvex.data.edit import raise_all, told_as
from volvex.data.model.sheet import FLOAT, INT, TEXT, WORDS, Array, Change, Column, InvalidValue, Sheet, parsed
from volvex.errors import FormatError, VolvexError

ROW = "record"  # the column with the number of a record that has no id
_ROUNDED = re.compile(r"-?\d+([.,]\d+)?[eE]\+?\d+")
_DATE = re.compile(r"\d{4}-\d\d-\d\d( \d\d:\d\d:\d\d)?|\d{1,2}[-./ ][A-Za-z]{3}")


@dataclass
class Reader:
    """Makes changes of the columns that came back for one sheet."""

    sheet: Sheet
    file: str
    where: Callable[[int], str]  # of a record that came back: "line 7"
    faults: list[VolvexError] = field(default_factory=list)
    kept: int = 0  # numbers that came back with fewer digits, and are kept as they were

    def changes(self, columns: Mapping[str, Any], whole: bool = True) -> list[Change]:
        """The changes; with `whole`, records that are not among those that came back are removed."""
        if not self._titles(columns):
            return []
        ids = self._ids(columns)
        rows = (
            np.array([self.sheet.rows.get(row_id, -1) for row_id in ids], np.int64)
            if ids is not None
            else np.arange(len(self.sheet))
        )
        if ids is None:
            ids = self.sheet.ids if len(self.sheet) == _count(columns) else []
        made: list[tuple[int, Change]] = []
        old = np.flatnonzero(rows >= 0)
        for name, values in columns.items():
            if name in self.sheet.columns and name not in self.sheet.id:
                made += self._column(self.sheet.columns[name], values, old, rows[old])
        changes = [change for _, change in sorted(made, key=lambda pair: pair[0])]
        changes += [self._new(columns, at, ids[at]) for at in np.flatnonzero(rows < 0).tolist()]
        if whole:
            gone = np.setdiff1d(np.arange(len(self.sheet)), rows[old])
            changes += [
                Change("remove", self.sheet.name, self.sheet.ids[row], fields=tuple(self.sheet.record(row).items()))
                for row in gone.tolist()
            ]
        return changes

    def _titles(self, columns: Mapping[str, Any]) -> bool:
        known = {*self.sheet.columns, ROW}
        for name in columns:
            if name not in known:
                self.faults.append(
                    FormatError(
                        self.file,
                        f"there is no field {name} in {self.sheet.name}",
                        hint=f"one of {', '.join(list(self.sheet.columns)[:12])}",
                    )
                )
        lacking = [name for name in self.sheet.id if name not in columns]
        if lacking or (not self.sheet.id and ROW not in columns):
            self.faults.append(
                FormatError(
                    self.file,
                    f"no column {(lacking or [ROW])[0]}, by which records are found",
                    hint="the file as it was written",
                )
            )
        return not self.faults

    def _ids(self, columns: Mapping[str, Any]) -> list[str] | None:
        """The ids that came back; None when they are those of the sheet, in its order."""
        if self.sheet.id and all(_same(self.sheet.columns[name], columns[name]) for name in self.sheet.id):
            return None
        parts = [_texts(columns[name]) for name in self.sheet.id] if self.sheet.id else [_texts(columns[ROW])]
        ids = ["@".join(some) for some in zip(*parts, strict=True)] if self.sheet.id else parts[0]
        seen: dict[str, int] = {}
        for at, row_id in enumerate(ids):
            if row_id in seen:
                self._fault(
                    at,
                    (self.sheet.id or (ROW,))[-1],
                    row_id,
                    f"an id that no other record has; {self.where(seen[row_id])} has it",
                )
            seen.setdefault(row_id, at)
            self._check_key(at, row_id)
        return ids

    def _check_key(self, at: int, row_id: str) -> None:
        if row_id in self.sheet.rows:
            return
        name = self.sheet.id[0] if self.sheet.id else ROW
        if _ROUNDED.fullmatch(row_id):
            self._fault(at, name, row_id, "the whole id: a spreadsheet has rounded it; format the column as text")
        near = self._zeros.get(row_id.lstrip("0")) if row_id.isdigit() else None
        if near is not None:
            self._fault(
                at, name, row_id, f"{near}: a spreadsheet has taken its leading zeros; format the column as text"
            )

    @functools.cached_property
    def _zeros(self) -> dict[str, str]:
        """Ids that begin with zeros, without them."""
        return {row_id.lstrip("0"): row_id for row_id in self.sheet.ids if row_id.startswith("0") and row_id.isdigit()}

    def _fault(self, at: int, column: str, value: str, allowed: str) -> None:
        self.faults.append(FormatError(self.file, f"{self.where(at)}, column {column}: {value!r}", hint=allowed))

    def _column(self, column: Column, values: Any, at: Array, rows: Array) -> list[tuple[int, Change]]:
        """The cells of a column that changed."""
        came = np.asarray(values)
        whole = len(at) == len(came)
        came = came if whole else came[at]
        own = (
            column.values
            if len(rows) == len(self.sheet) and bool((rows == np.arange(len(rows))).all())
            else column.values[rows]
        )
        different = self._differing(column, came, own)
        made = []
        for place in different.tolist():
            row, place_came = int(rows[place]), int(at[place])
            change = self._cell(column, _text(came[place]), row, place_came)
            if change is not None:
                made.append((row, change))
        return made

    def _differing(self, column: Column, came: Array, own: Array) -> Array:
        """Where cells may differ: those that plainly do not are passed over in bulk."""
        if own.dtype.kind in "iu" and came.dtype.kind in "iu":
            return np.flatnonzero(own != came)
        if own.dtype.kind == "f" and came.dtype.kind == "f":
            with np.errstate(over="ignore", invalid="ignore"):
                narrow = came.astype(own.dtype)
            kind = f"u{own.dtype.itemsize}"
            return np.flatnonzero(narrow.view(kind) != own.view(kind))
        if own.dtype.kind in "iuf":
            own = (
                np.array([*column.texts(), None], object)[:-1]
                if len(own) == len(self.sheet)
                else np.array([_text(one) for one in own], object)
            )
        return np.flatnonzero(np.asarray(own != came.astype(object), bool))

    def _cell(self, column: Column, text: str | None, row: int, at: int) -> Change | None:
        before = column.text(row)
        if text is None or text == before or (text == "" and before is None):
            return None
        rule = column.rule
        if rule.value_type == WORDS and text not in rule.words and text.lower() in rule.words:
            text = text.lower()  # a spreadsheet writes TRUE
        spoilt = _spoilt(rule.value_type, before or "", text)
        if spoilt:
            self._fault(at, column.name, text, spoilt)
            return None
        if rule.fixed or (before is None and rule.value_type != TEXT):
            self._fault(
                at,
                column.name,
                text,
                "no value: this record has no such field"
                if before is None
                else "the value that was there, which cannot be set as a whole",
            )
            return None
        try:
            parsed(rule, text)
        except InvalidValue as error:
            self._fault(at, column.name, text, str(error))
            return None
        after = told_as(column, text)
        if after == before:
            return None
        if rule.value_type == FLOAT and before is not None and _is_rounding(before, text):
            self.kept += 1
            return None
        return Change("set", self.sheet.name, self.sheet.ids[row], column.name, before, after)

    def _new(self, columns: Mapping[str, Any], at: int, row_id: str) -> Change:
        fields = []
        for name, values in columns.items():
            text = _text(values[at])
            if name == ROW or text is None or (text == "" and self.sheet.columns[name].rule.value_type != TEXT):
                continue
            column = self.sheet.columns[name]
            try:
                fields.append((name, told_as(column, text)))
            except InvalidValue as error:
                self._fault(at, name, text, str(error))
        return Change("add", self.sheet.name, row_id, fields=tuple(fields))

    def notes(self) -> list[str]:
        """What is worth knowing."""
        many = "number" if self.kept == 1 else "numbers"
        return (
            [f"{self.sheet.name}: {self.kept:,} {many} came back with fewer digits and kept all of them"]
            if self.kept
            else []
        )

    def finish(self) -> None:
        """All faults at once, if there are any."""
        raise_all(self.faults)


def _count(columns: Mapping[str, Any]) -> int:
    return len(next(iter(columns.values()), ()))


def _texts(values: Any) -> list[str]:
    return [_text(one) or "" for one in np.asarray(values).tolist()]


def _text(value: Any) -> str | None:
    """A value as a cell's text."""
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bool | np.bool_):
        return "true" if value else "false"
    if isinstance(value, float | np.floating):
        number = float(value)
        return str(int(number)) if number.is_integer() and abs(number) < 1e15 else repr(number)
    return str(value)


def _same(column: Column, values: Any) -> bool:
    """Whether what came back is the column as it is."""
    came, own = np.asarray(values), column.values
    if len(came) != len(own):
        return False
    if own.dtype.kind in "iu" and came.dtype.kind in "iu":
        return bool((own == came).all())
    if own.dtype.kind in "iuf":
        return list(column.texts()) == _texts(came)
    return bool(np.asarray(own == came.astype(object), bool).all())


def _spoilt(value_type: str, before: str, text: str) -> str:
    """What a program has made of a value that it took for something else; nothing when it did not."""
    if value_type == INT and _ROUNDED.fullmatch(text):
        return f"the whole number ({before}): a spreadsheet has rounded it; format the column as text"
    if value_type != TEXT:
        return ""
    if before != text and before.startswith("0") and before.isdigit() and text == (before.lstrip("0") or "0"):
        return f"{before}: a spreadsheet has taken its leading zeros; format the column as text"
    if before.isdigit() and len(before) > 11 and _ROUNDED.fullmatch(text):
        return f"{before}: a spreadsheet has rounded it; format the column as text"
    if _DATE.fullmatch(text) and re.fullmatch(r"\d{1,2}[-./]\d{1,2}|[A-Za-z]{3}[-. ]?\d{1,2}", before):
        return f"{before}: a spreadsheet took it for a date; format the column as text"
    return ""


def _is_rounding(before: str, text: str) -> bool:
    """Whether a number is another one written with fewer digits, as a spreadsheet does it behind the fifteenth."""
    digits = len(re.sub(r"[^0-9]", "", re.sub(r"[eE].*", "", text)).lstrip("0"))
    long = len(re.sub(r"[^0-9]", "", re.sub(r"[eE].*", "", before)).lstrip("0"))
    if digits >= long or digits < 6:
        return False
    try:
        return float(f"{float(before):.{digits}g}") == float(text)
    except ValueError:
        return False
