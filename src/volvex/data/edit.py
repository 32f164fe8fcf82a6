"""What a person asks to be changed, as changes: values of a record, of many, texts replaced, records added and
removed."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from volvex.data.expressions import Expression
from volvex.data.model.sheet import (
    FLOAT,
    INT,
    NUMBERED,
    TEXT,
    Array,
    Change,
    Column,
    Document,
    InvalidValue,
    Sheet,
    cell_text,
    parsed,
)
from volvex.data.text.document import TextData
from volvex.errors import FormatError, ManyErrors, NotFoundError, UnfitError, UsageError, VolvexError

ASSIGNED = re.compile(r"\s*(`[^`]+`|[\w./\[\]@-]+)\s*=(?!=)(.*)", re.S)
FAULTS = 50  # told of one piece of work


@dataclass(frozen=True)
class Target:
    """Which records: one by its id or its place, those for which something holds, or (none of these) the whole file."""

    row: str | None = None
    at: str | None = None
    where: str | None = None
    sheet: str | None = None

    def __str__(self) -> str:
        return f"row {self.row}" if self.row is not None else self.at or "the file"


def chosen(document: Document, target: Target) -> tuple[Sheet, Array, str]:
    """The sheet and rows that are meant, and what fields begin with; NotFoundError with a near miss when there are
    none."""
    if target.row is not None:
        sheet, row = found_row(document, target.row, target.sheet)
        return sheet, np.array([row]), ""
    if target.at is not None:
        if not isinstance(document, TextData):
            raise UsageError(f"{document.file} is a {document.form}: its records are found by id", "--row ID")
        name, row_id, before = document.at(target.at)
        sheet = document.sheet(name)
        return sheet, np.array([sheet.rows[row_id]]), before
    sheet = only_sheet(document, target)
    if target.where is not None:
        return sheet, Expression(target.where).rows(sheet, document.file), ""
    return sheet, np.arange(len(sheet)), ""


def found_row(document: Document, row_id: str, sheet: str | None) -> tuple[Sheet, int]:
    """The record of an id, in one sheet or whichever has it."""
    if sheet is None:
        return document.find(row_id)
    one = document.sheet(sheet)
    row = one.row(row_id)
    if row is None:
        near = difflib.get_close_matches(row_id, one.ids[:20000], 1)
        raise NotFoundError(f"{document.file}: {sheet} has no row {row_id}", f"--row {near[0]}" if near else "")
    return one, row


def only_sheet(document: Document, target: Target) -> Sheet:
    """The sheet that is named, or the one that there is; of several the one whose fields a condition speaks of."""
    if target.sheet is not None:
        return document.sheet(target.sheet)
    sheets = document.sheets
    if len(sheets) == 1:
        return sheets[0]
    if target.where is not None:
        fitting = [sheet for sheet in sheets if _fits(target.where, sheet, document.file)]
        if len(fitting) == 1:
            return fitting[0]
    elif sheets and len(sheets[0]) == 1:
        return sheets[0]  # the file itself: what is in no other record
    text = ", ".join(f"{sheet.name} ({len(sheet):,})" for sheet in sheets[:12])
    raise UsageError(
        f"{document.file} has several kinds of records: {text}", f"--sheet {sheets[0].name}" if sheets else ""
    )


def matched(document: Document, where: str, sheet: str | None = None) -> int:
    """How many records a condition selects; UsageError or NotFoundError as with `assignments`."""
    _, rows, _ = chosen(document, Target(where=where, sheet=sheet))
    return len(rows)


def _fits(where: str, sheet: Sheet, file: str) -> bool:
    try:
        Expression(where).values(sheet, file)
    except NotFoundError:
        return False
    return True


def assignments(document: Document, target: Target, lines: Sequence[str]) -> list[Change]:
    """The changes that `FIELD=VALUE` (of one record) or `FIELD = EXPRESSION` (of those chosen by `where`) make.

    All faults at once: ManyErrors when a value fits its field in some records only.
    """
    if (
        target.row is None
        and target.at is None
        and target.where is None
        and target.sheet is None
        and isinstance(document, TextData)
    ):
        return [change for text in lines for change in _by_path(document, text)]
    sheet, rows, before = chosen(document, target)
    computed = target.where is not None
    if not computed and len(rows) != 1:
        raise UsageError(
            f"{document.file} has {len(sheet):,} records of {sheet.name}",
            "--row ID, or --where with a condition (`decode_numbers` cells of all: \"@id != ''\")",
        )
    faults: list[VolvexError] = []
    made: list[Change] = []
    for text in lines:
        field, value = _assigned(text)
        column = _column(sheet, before + field, document, target, rows)
        news = _computed(value, sheet, rows, column, document.file) if computed else [value] * len(rows)
        made += _sets(document, sheet, rows, column, news, faults)
    raise_all(faults)
    return made


def _by_path(document: TextData, text: str) -> list[Change]:
    """`lamp[3]/range=5`, without a record: the field of the file itself, or of what is at the place before the last
    slash."""
    field, value = _assigned(text)
    field = field.replace("@", "")
    first = document.sheets[0] if document.sheets else None
    if first is not None and len(first) == 1 and field in first.columns:
        return _sets(document, first, np.array([0]), first.columns[field], [value], [])
    place, _, name = field.rpartition("/")
    if place:
        return assignments(document, Target(at=place), [f"{name}={value}"])
    if first is not None and len(first) == 1:
        raise no_field(field, first, "the file", document.file)
    has = ", ".join(f"{len(sheet):,} of {sheet.name}" for sheet in document.sheets[:6])
    raise NotFoundError(f"{document.file}: the file itself has no field {field}; it has records: {has}", "--row ID")


def _assigned(text: str) -> tuple[str, str]:
    match = ASSIGNED.fullmatch(text)
    if match is None:
        name, sign, value = text.partition("=")
        if not sign or not name.strip():
            raise UsageError(f"{text!r} is not FIELD=VALUE", "FIELD=VALUE, such as range=14")
        return name.strip(), value
    return match[1].strip("`"), match[2]


def _column(sheet: Sheet, field: str, document: Document, target: Target, rows: Array) -> Column:
    column = sheet.columns.get(field)
    if column is None or (len(rows) == 1 and column.values[rows[0]] is None):
        own = list(sheet.record(int(rows[0]))) if len(rows) == 1 else list(sheet.columns)
        inner = next((name for name in own if name.startswith(f"{field}/")), None)
        if inner is not None:
            raise NotFoundError(
                f"{document.file}: {target} has no field {field} with a single value; it has {inner}", f"{inner}=..."
            )
        raise no_field(field, sheet, str(target), document.file, own)
    return column


def no_field(field: str, sheet: Sheet, whose: str, file: str, own: Iterable[str] | None = None) -> NotFoundError:
    """The error for a field that is not there."""
    known = list(sheet.columns if own is None else own)
    near = difflib.get_close_matches(field, known, 1)
    has = f"; it has {', '.join(known[:12])}" if known else ""
    return NotFoundError(f"{file}: {whose} has no field {field}{has}", f"{near[0]}=..." if near else "")


def _computed(text: str, sheet: Sheet, rows: Array, column: Column, file: str) -> list[str | None]:
    """What an expression gives for some records, as cells; a bare word is a text."""
    try:
        values = Expression(text.strip()).values(sheet, file)[rows]
    except NotFoundError:
        if not re.fullmatch(r"\s*[A-Za-z_][\w-]*\s*", text):
            raise
        return [text.strip()] * len(rows)
    if values.dtype.kind == "f" and column.rule.value_type == INT:
        return [str(int(one)) if float(one).is_integer() else repr(float(one)) for one in values.tolist()]
    if values.dtype.kind == "f" and column.rule.value_type != FLOAT:
        return [repr(one).removesuffix(".0") for one in values.tolist()]
    return [cell_text(one) if not isinstance(one, float) else repr(one) for one in values.tolist()]


def _sets(
    document: Document,
    sheet: Sheet,
    rows: Array,
    column: Column,
    values: Sequence[str | None],
    faults: list[VolvexError],
) -> list[Change]:
    """Cells set, where they are others than before; what does not fit goes to `faults`."""
    made = []
    for row, value in zip(rows.tolist(), values, strict=True):
        before, row_id = column.text(row), sheet.ids[row]
        fault = fault_of(column, value, row_id, document.file)
        if fault is not None:
            faults.append(fault)
            continue
        after = document.as_told(before, told_as(column, value or ""))
        if after != before:
            made.append(Change("set", sheet.name, row_id, column.name, before, after))
    return made


def told_as(column: Column, text: str) -> str:
    """A value in the way in which the column tells it."""
    value = parsed(column.rule, text)
    if column.rule.value_type == FLOAT:
        return cell_text(value) or ""
    return str(value)


def fault_of(column: Column, value: str | None, row_id: str, file: str) -> FormatError | None:
    """Why a column cannot hold a value; None when it can."""
    if column.rule.fixed or value is None:
        return UnfitError(file, f"row {row_id}: {column.name} cannot be set as a whole", hint="one of its values")
    try:
        parsed(column.rule, value)
    except InvalidValue as error:
        hint = str(error) + ("; or round(...)" if column.rule.value_type == INT and "." in value else "")
        return UnfitError(file, f"row {row_id}: {column.name} cannot be {value!r}", hint=hint)
    return None


def raise_all(faults: Sequence[VolvexError]) -> None:
    """All faults at once, if there are any."""
    if len(faults) == 1:
        raise faults[0]
    if faults:
        errors = list(faults[:FAULTS])
        if len(faults) > FAULTS:
            errors.append(VolvexError(f"and {len(faults) - FAULTS:,} more"))
        raise ManyErrors(errors)


# replacing text


def replacements(
    document: Document, target: Target, old: str, new: str, whole: bool, fields: Sequence[str] = ()
) -> list[Change]:
    """Every value that holds a text, with another in its place; `whole`: not where it is part of a longer word."""
    if not old:
        raise UsageError("no text to replace is given", "--replace OLD NEW")
    pattern = re.compile(rf"(?<!\w){re.escape(old)}(?!\w)" if whole else re.escape(old))
    sheets = (
        [chosen(document, target)[:2]]
        if target != Target()
        else [(sheet, np.arange(len(sheet))) for sheet in document.sheets]
    )
    made: list[Change] = []
    faults: list[VolvexError] = []
    for sheet, rows in sheets:
        for name, hits in _hits(sheet, rows, pattern, fields).items():
            column = sheet.columns[name]
            values = [pattern.sub(lambda _: new, column.text(row) or "") for row in hits]
            made += _sets(document, sheet, np.array(hits, np.int64), column, values, faults)
    raise_all(faults)
    order = {(sheet.name, row_id): at for sheet in document.sheets for at, row_id in enumerate(sheet.ids)}
    return sorted(made, key=lambda one: order[one.sheet, one.id])


def _hits(sheet: Sheet, rows: Array, pattern: re.Pattern[str], fields: Sequence[str]) -> dict[str, list[int]]:
    """The records in which a text stands, by field."""
    wanted = [
        name
        for name, column in sheet.columns.items()
        if column.rule.value_type == TEXT and name not in sheet.id and (not fields or name in fields)
    ]
    found: dict[str, list[int]] = {name: [] for name in wanted}
    for row in rows.tolist() if sheet.cells is not None else ():
        for name, text in sheet.cells[row].items() if sheet.cells is not None else ():
            if name in found and pattern.search(text):
                found[name].append(row)
    if sheet.cells is None:
        for name in wanted:
            texts = sheet.columns[name].texts(rows)
            found[name] = [
                row for row, text in zip(rows.tolist(), texts, strict=True) if text is not None and pattern.search(text)
            ]
    return {name: hits for name, hits in found.items() if hits}


# records that come and go


def added(document: Document, sheet: str | None, row_id: str, lines: Sequence[str]) -> list[Change]:
    """A new record: its id, and its fields; the others are as in the last record."""
    one = document.sheet(sheet) if sheet else only_sheet(document, Target(where=None))
    if one.row(row_id) is not None:
        raise UsageError(
            f"{document.file}: {one.name} has a row {row_id} already", "another id, or `--row` to change it"
        )
    fields = dict(_assigned(text) for text in lines)
    like = one.ids[-1] if len(one) else ""
    return [_as_copy(document, one, like, row_id, fields, {})]


def copied(
    document: Document,
    pairs: Mapping[str, str],
    lines: Sequence[str],
    sheet: str | None,
    refers: Callable[[Sheet, str], Sequence[str]],
) -> list[Change]:
    """Records copied under new ids. What in them refers to one of the copied records follows to its copy.

    `refers` tells for a field which sheets' ids it holds.
    """
    fields = dict(_assigned(text) for text in lines)
    made = []
    for old, new in pairs.items():
        one, row = found_row(document, old, sheet)
        if one.row(new) is not None:
            raise UsageError(f"{document.file}: {one.name} has a row {new} already", "another id")
        here = {one.name, one.group}
        follows = {
            name: pairs[text]
            for name, text in one.record(row).items()
            if text in pairs and name not in one.id and here & set(refers(one, name))
        }
        made.append(_as_copy(document, one, one.ids[row], new, fields, follows))
    return made


def _as_copy(
    document: Document, sheet: Sheet, like: str, row_id: str, fields: Mapping[str, str], follows: Mapping[str, str]
) -> Change:
    record = key_fields(sheet, row_id, like) | dict(follows) | dict(fields)
    faults = []
    for name, value in list(record.items()):
        column = sheet.column(name, document.file)
        fault = fault_of(column, value, row_id, document.file)
        if fault is not None:
            faults.append(fault)
        else:
            record[name] = told_as(column, value)
    raise_all(faults)
    return Change("add", sheet.name, row_id, fields=tuple(record.items()), like=like)


def key_fields(sheet: Sheet, row_id: str, like: str = "") -> dict[str, str]:
    """The fields that make up an id; where ids are given by places, those fields in which the record `like` repeats its
    own."""
    if sheet.id:
        parts = row_id.split("@") if len(sheet.id) > 1 else [row_id]
        if len(parts) != len(sheet.id):
            raise UsageError(
                f"{row_id} is not an id of {sheet.name}, which is made of {' and '.join(sheet.id)}", "@".join(sheet.id)
            )
        return dict(zip(sheet.id, parts, strict=True))
    own = [name for name in ("id", "key", "name", "filename") if name in sheet.columns]
    if like in sheet.rows:
        record, leaf = sheet.record(sheet.rows[like]), like.rpartition("/")[2]
        own = [name for name in own if record.get(name) in (leaf, leaf.rpartition(NUMBERED)[0])]
    return dict.fromkeys(own[:1] if like not in sheet.rows else own, row_id.rpartition("/")[2])


def removed(document: Document, target: Target) -> list[Change]:
    """Records taken out."""
    sheet, rows, _ = chosen(document, target)
    return [
        Change("remove", sheet.name, sheet.ids[row], fields=tuple(sheet.record(row).items())) for row in rows.tolist()
    ]


def as_told(changes: Iterable[Change], document: Document) -> list[Change]:
    """Changes with all fields of what is added, as they will be: for being told."""
    made = []
    for change in changes:
        if change.what == "add" and change.like:
            sheet = document.sheet(change.sheet)
            row = sheet.rows.get(change.like)
            whole = (sheet.record(row) if row is not None else {}) | dict(change.fields)
            change = replace(change, fields=tuple(whole.items()))
        made.append(change)
    return made
