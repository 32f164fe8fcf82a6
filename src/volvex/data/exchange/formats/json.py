"""JSON: each sheet a list of records with typed values; of a scene also a single object (`--row`)."""

from __future__ import annotations

import json
from typing import Any

import numpy as np

from volvex.data.exchange import Incoming, Wanted, text_of, wanted_sheets
from volvex.data.exchange.incoming import ROW, Reader
from volvex.data.model.sheet import FLOAT, INT, Document, Sheet
from volvex.errors import FormatError, VolvexError

EXTENSIONS = ("json",)
FORMS = ()
EXACT = 1 << 53  # larger whole numbers are told as texts: many programs read numbers as 64-bit floats


class _Exact(float):
    """A number in the digits that give it back."""

    def __new__(cls, text: str) -> _Exact:
        made = super().__new__(cls, text)
        made.text = text
        return made

    text: str

    def __repr__(self) -> str:
        return self.text


def write(document: Document, wanted: Wanted) -> bytes:
    """The file."""
    if wanted.row is not None:
        sheet, row = document.find(wanted.row) if wanted.sheet is None else (document.sheet(wanted.sheet), -1)
        row = row if row >= 0 else sheet.rows[wanted.row]
        value: Any = {sheet.name: [_record(sheet, row)]}
    else:
        value = {
            sheet.name: [_record(sheet, row) for row in range(len(sheet))] for sheet in wanted_sheets(document, wanted)
        }
    return (json.dumps(value, indent=1, ensure_ascii=False) + "\n").encode()


def _record(sheet: Sheet, row: int) -> dict[str, Any]:
    record: dict[str, Any] = {} if sheet.id or sheet.ids[row] in sheet.record(row).values() else {ROW: sheet.ids[row]}
    for name, column in sheet.columns.items():
        text = column.text(row)
        if text is not None:
            record[name] = _value(column.rule.value_type, text)
    return record


def _value(value_type: str, text: str) -> Any:
    if value_type == INT and abs(int(text)) < EXACT:
        return int(text)
    if value_type == FLOAT and not text.startswith("nan") and "inf" not in text:
        return int(text) if text.lstrip("-").isdigit() and text != "-0" else _Exact(text)
    return text


def read(data: bytes, document: Document, wanted: Wanted, file: str) -> Incoming:
    """The changes that the file makes. A file with a single object changes that alone."""
    try:
        value = json.loads(text_of(data, file), parse_float=str, parse_int=str)
    except (ValueError, RecursionError) as error:
        raise FormatError(file, f"not valid JSON: {error}", hint="mending it in an editor") from error
    if not isinstance(value, dict) or not all(isinstance(one, list) for one in value.values()):
        raise FormatError(file, "not an object with a list of records for each kind", hint="the file as it was written")
    faults: list[VolvexError] = []
    changes, notes = [], []
    for name, records in value.items():
        sheet = document.sheet(name)
        reader = Reader(sheet, file, lambda at, name=name: f"{name}[{at}]", faults)  # type: ignore[misc]
        changes += _changes(reader, sheet, records, file, whole=wanted.row is None)
        notes += reader.notes()
    if wanted.row is None and wanted.sheet is None:
        gone = [sheet for sheet in document.sheets if sheet.name not in value and len(sheet)]
        faults += [FormatError(file, f"it has no {sheet.name}", hint="the file as it was written") for sheet in gone]
    if document.sheets:
        Reader(document.sheets[0], file, str, faults).finish()
    return Incoming(changes, notes)


def _changes(reader: Reader, sheet: Sheet, records: Any, file: str, whole: bool) -> list[Any]:
    if not all(isinstance(record, dict) for record in records):
        raise FormatError(file, f"{sheet.name} holds something that is no record", hint="the file as it was written")
    if not sheet.id:
        return _unkeyed(reader, sheet, records)
    names = dict.fromkeys(name for record in records for name in record)
    columns = {name: np.array([*(_text(record.get(name)) for record in records), None], object)[:-1] for name in names}
    return (
        reader.changes(columns, whole)
        if records
        else ([] if not whole else reader.changes({name: [] for name in sheet.columns}))
    )


def _unkeyed(reader: Reader, sheet: Sheet, records: Any) -> list[Any]:
    """Records whose ids are told by their places: only their values can change."""
    made = []
    for at, record in enumerate(records):
        row_id = str(record.get(ROW, record.get("id", record.get("key", record.get("name", "")))))
        row = sheet.row(row_id)
        if row is None and row_id == "" and len(sheet) == 1:
            row = 0
        if row is None:
            reader._fault(at, ROW, row_id, "an existing record; new ones with `volvex set --add`")
            continue
        for name, value in record.items():
            if name in sheet.columns:
                change = reader._cell(sheet.columns[name], _text(value), row, at)
                made += [change] if change is not None else []
            elif name != ROW:
                reader._fault(at, name, str(value), f"one of its fields: {', '.join(list(sheet.columns)[:12])}")
    return made


def _text(value: Any) -> str | None:
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, bool):
        return "true" if value else "false"
    return json.dumps(value, ensure_ascii=False)
