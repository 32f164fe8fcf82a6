"""Office Open XML workbooks, a worksheet for each sheet: ids and texts as text, so that no program takes them for
numbers.

Whole numbers of more than fifteen digits are text as well: a spreadsheet would round them.
"""

from __future__ import annotations

import io
import re
import warnings
import zipfile
from collections.abc import Sequence
from typing import Any

import numpy as np

from volvex.data.budget import Budget
from volvex.data.exchange import Incoming, Wanted, library_errors, wanted_sheets
from volvex.data.exchange.incoming import ROW, Reader
from volvex.data.model.sheet import FLOAT, INT, TEXT, Column, Document, Sheet
from volvex.errors import FormatError, VolvexError
from volvex.extras import require

EXTENSIONS = ("xlsx",)
FORMS = ()
EXACT = 10**15
MOST = 2_000_000  # cells that are read
LONGEST = 32_767  # characters in a cell, as spreadsheets allow
UNPACKED, RATIO = 1 << 26, 60  # bytes that a workbook may unpack to, and times its own size
_PLAIN_NUMBER = re.compile(r"-?(0|[1-9][0-9]*)(\.[0-9]*[1-9])?")
_SURROGATE = re.compile("[\ud800-\udfff]")
_TITLE = re.compile(r"[\[\]:*?/\\]")


def write(document: Document, wanted: Wanted) -> bytes:
    """The workbook."""
    require("openpyxl", "XLSX workbooks")
    from openpyxl import Workbook
    from openpyxl.cell import WriteOnlyCell
    from openpyxl.styles import Font

    sheets = wanted_sheets(document, wanted)
    for sheet in sheets:
        _require_plain(document.file, sheet)  # before the library begins, which does not stop well halfway
    book = Workbook(write_only=True)
    for sheet in sheets:
        page = book.create_sheet(_title(sheet.name))
        page.freeze_panes = "B2"
        names = list(dict.fromkeys([*(sheet.id or (ROW,)), *sheet.columns]))
        heads = [_text_cell(WriteOnlyCell(page, value=name)) for name in names]
        for head in heads:
            head.font = Font(bold=True)
        page.append(heads)
        numeric = {
            name
            for name in names
            if name in sheet.columns and name not in sheet.id and _is_numeric(sheet.columns[name])
        }
        for row in range(len(sheet)):
            page.append([_cell(page, sheet, name, row, name in numeric) for name in names])
    out = io.BytesIO()
    book.save(out)
    return _timeless(out.getvalue())


def _require_plain(file: str, sheet: Sheet) -> None:
    """FormatError for texts that no cell can hold."""
    require("openpyxl", "XLSX workbooks")
    from openpyxl.cell.cell import ILLEGAL_CHARACTERS_RE

    columns = {name: column.texts() for name, column in sheet.columns.items() if column.values.dtype.kind not in "iuf"}
    texts: dict[str, Sequence[str | None]] = {**columns, ROW: sheet.ids, "the name of a field": list(sheet.columns)}
    for name, some in texts.items():
        for row, text in enumerate(some, 1):
            if text is None:
                continue
            if len(text) > LONGEST:
                raise FormatError(
                    file,
                    f"record {row}: {name} is longer than the {LONGEST:,} characters of a cell",
                    hint="csv or json",
                )
            if ILLEGAL_CHARACTERS_RE.search(text) or _SURROGATE.search(text):
                raise FormatError(
                    file,
                    f"record {row}: {name}: {text!r} has characters that a workbook cannot store",
                    hint="csv or json",
                )


def _is_numeric(column: Column) -> bool:
    """Whether a column of texts (as XML has them) is one of numbers: each comes back as the same text."""
    texts = [text for text in column.texts() if text is not None]
    return column.rule.value_type == TEXT and bool(texts) and all(map(_number, texts))


def _number(text: str) -> bool:
    return _PLAIN_NUMBER.fullmatch(text) is not None and len(text) < 16 and text != "-0"


def _timeless(data: bytes) -> bytes:
    """The same workbook without the time at which it was made: the same input gives the same bytes."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as before, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as after:
        for info in before.infolist():
            content = before.read(info)
            if info.filename == "docProps/core.xml":
                content = re.sub(rb"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ", b"2000-01-01T00:00:00Z", content)
            after.writestr(zipfile.ZipInfo(info.filename), content, zipfile.ZIP_DEFLATED)
    return out.getvalue()


def _title(name: str) -> str:
    return _TITLE.sub("-", name)[:31] or "sheet"


def _text_cell(cell: Any) -> Any:
    """A cell as text, whatever it looks like: no program computes it, or takes it for a number or a date."""
    cell.number_format = "@"
    cell.data_type = "s"
    return cell


def _cell(page: Any, sheet: Sheet, name: str, row: int, numeric: bool) -> Any:
    require("openpyxl", "XLSX workbooks")
    from openpyxl.cell import WriteOnlyCell

    if name == ROW and name not in sheet.columns:
        return _text_cell(WriteOnlyCell(page, value=sheet.ids[row]))
    column = sheet.columns[name]
    text = column.text(row)
    if text is None:
        return None
    if numeric:
        return float(text) if "." in text else int(text)
    if name not in sheet.id and column.rule.value_type == INT and abs(int(text)) < EXACT:
        return int(text)
    if column.rule.value_type == FLOAT and not text.startswith("nan") and np.isfinite(float(text)):
        number = float(text)
        if float(f"{number:.15g}") == number:  # a workbook keeps no more digits
            return number
    return _text_cell(WriteOnlyCell(page, value=text))


def read(data: bytes, document: Document, wanted: Wanted, file: str) -> Incoming:
    """The changes that the workbook makes."""
    _require_size(data, file)
    changes, notes = [], []
    faults: list[VolvexError] = []
    pages = _pages(data, file, [_title(sheet.name) for sheet in wanted_sheets(document, wanted)])
    for sheet in wanted_sheets(document, wanted):
        title = _title(sheet.name)
        lines = pages.get(title)
        if lines is None:
            faults.append(FormatError(file, f"no worksheet {title}", hint=f"it has {', '.join(pages)}"))
            continue
        reader = Reader(sheet, file, lambda at, title=title: f"{title} row {at + 2}", faults)  # type: ignore[misc]
        if lines:
            names = [str(line) for line in lines[0] if line is not None]
            changes += reader.changes(
                {
                    name: _values(sheet, name, [line[at] if at < len(line) else None for line in lines[1:]])
                    for at, name in enumerate(names)
                }
            )
        notes += reader.notes()
    Reader(document.sheets[0], file, str, faults).finish()
    return Incoming(changes, notes)


def _require_size(data: bytes, file: str) -> None:
    """FormatError for a workbook that unpacks to more than any of its size holds."""
    with library_errors(file, "workbook", "saving it again as .xlsx"), zipfile.ZipFile(io.BytesIO(data)) as held:
        size = sum(info.file_size for info in held.infolist())
        if size <= max(UNPACKED, len(data) * RATIO):
            Budget(file, "cells", MOST, "csv or json").spend(sum(_cells(held, info) for info in held.infolist()))
    if size > max(UNPACKED, len(data) * RATIO):
        raise FormatError(
            file,
            f"{len(data):,} bytes unpack to {size:,}, too much for a workbook of that size",
            hint="saving it again as .xlsx",
        )


def _cells(held: zipfile.ZipFile, info: zipfile.ZipInfo) -> int:
    """The cells of a worksheet, counted in its text before the first is made."""
    if not info.filename.startswith("xl/worksheets/"):
        return 0
    count, tail = 0, b""
    with held.open(info) as part:
        while chunk := part.read(1 << 20):
            whole = tail + chunk
            count += whole.count(b"<c ") + whole.count(b"<c>") + whole.count(b"<c/>")
            tail = whole[-2:]
    return count


def _pages(data: bytes, file: str, titles: list[str]) -> dict[str, list[tuple[Any, ...]]]:
    """The rows of the worksheets that are wanted that have something in them; the others are empty here."""
    require("openpyxl", "XLSX workbooks")
    from openpyxl import load_workbook

    found: dict[str, list[tuple[Any, ...]]] = {}
    budget = Budget(file, "cells", MOST, "csv or json")
    with library_errors(file, "workbook", "saving it again as .xlsx"), warnings.catch_warnings():
        warnings.simplefilter("ignore")
        book = load_workbook(io.BytesIO(data), read_only=True, data_only=True)
        try:
            for page in book.worksheets:
                found[page.title] = []
                if page.title not in titles:
                    continue
                page.reset_dimensions()  # what it says of its size is not believed
                for line in page.iter_rows(values_only=True):
                    budget.spend(1 + len(line))
                    if any(one is not None for one in line):
                        found[page.title].append(line)
        finally:
            book.close()
    return found


def _values(sheet: Sheet, name: str, cells: list[Any]) -> Any:
    """A column's cells as they came back: as texts, but for numbers among numbers."""
    from volvex.data.exchange.incoming import _text

    column = sheet.columns.get(name)
    if (
        column is not None
        and column.rule.value_type == FLOAT
        and all(isinstance(cell, int | float) for cell in cells)
        and cells
    ):
        return np.array(cells, float)
    return np.array([*(_text(cell) if cell is not None else "" for cell in cells), None], object)[:-1]
