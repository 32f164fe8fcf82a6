"""Office Open XML workbooks, a worksheet for each sheet: keys and texts as text, so that no program takes them for numbers.

Whole numbers of more than fifteen digits are text as well: a spreadsheet would round them.
"""

from __future__ import annotations

import io
import re
import zipfile
from typing import Any

import numpy as np

from volvex.data.exchange import Incoming, Wanted, wanted_sheets
from volvex.data.incoming import ROW, Reader
from volvex.data.sheet import FLOAT, INT, Document, Sheet
from volvex.errors import FormatError, VolvexError

ENDINGS = ("xlsx",)
FORMS = ()
EXACT = 10**15
_TITLE = re.compile(r"[\[\]:*?/\\]")


def write(document: Document, wanted: Wanted) -> bytes:
    """The workbook."""
    from openpyxl import Workbook
    from openpyxl.cell import WriteOnlyCell
    from openpyxl.styles import Font

    book = Workbook(write_only=True)
    for sheet in wanted_sheets(document, wanted):
        page = book.create_sheet(_title(sheet.name))
        page.freeze_panes = "B2"
        names = list(dict.fromkeys([*(sheet.key or (ROW,)), *sheet.columns]))
        heads = [WriteOnlyCell(page, value=name) for name in names]
        for head in heads:
            head.font = Font(bold=True)
        page.append(heads)
        for row in range(len(sheet)):
            page.append([_cell(page, sheet, name, row) for name in names])
    out = io.BytesIO()
    book.save(out)
    return _timeless(out.getvalue())


def _timeless(data: bytes) -> bytes:
    """The same workbook without the time at which it was made: the same input gives the same bytes."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as before, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as after:
        for one in before.infolist():
            content = before.read(one)
            if one.filename == "docProps/core.xml":
                content = re.sub(rb"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ", b"2000-01-01T00:00:00Z", content)
            after.writestr(zipfile.ZipInfo(one.filename), content, zipfile.ZIP_DEFLATED)
    return out.getvalue()


def _title(name: str) -> str:
    return _TITLE.sub("-", name)[:31] or "sheet"


def _cell(page: Any, sheet: Sheet, name: str, row: int) -> Any:
    from openpyxl.cell import WriteOnlyCell

    if name == ROW and name not in sheet.columns:
        return sheet.keys[row]
    column = sheet.columns[name]
    text = column.text(row)
    if text is None:
        return None
    if name not in sheet.key and column.rule.sort == INT and abs(int(text)) < EXACT:
        return int(text)
    if column.rule.sort == FLOAT and not text.startswith("nan") and np.isfinite(float(text)):
        number = float(text)
        if float(f"{number:.15g}") == number:  # a workbook keeps no more digits
            return number
    cell = WriteOnlyCell(page, value=_plain(text))
    cell.number_format = "@"
    cell.data_type = "s"
    return cell


def _plain(text: str) -> str:
    """A text as a cell holds it; FormatError for characters that none can."""
    from openpyxl.cell.cell import ILLEGAL_CHARACTERS_RE

    if ILLEGAL_CHARACTERS_RE.search(text):
        raise FormatError("the workbook", f"{text!r} has characters that a workbook cannot hold", hint="csv or json")
    return text


def read(data: bytes, document: Document, wanted: Wanted, file: str) -> Incoming:
    """The changes that the workbook makes."""
    from openpyxl import load_workbook
    from openpyxl.utils.exceptions import InvalidFileException

    try:
        book = load_workbook(io.BytesIO(data), read_only=True, data_only=True)
    except (
        OSError,
        KeyError,
        ValueError,
        TypeError,
        AttributeError,
        InvalidFileException,
        zipfile.BadZipFile,
    ) as error:
        raise FormatError(file, f"not a sound workbook: {error}", hint="saving it again as .xlsx") from error
    changes, notes = [], []
    faults: list[VolvexError] = []
    pages = {page.title: page for page in book.worksheets}
    for sheet in wanted_sheets(document, wanted):
        page = pages.get(_title(sheet.name))
        if page is None:
            faults.append(FormatError(file, f"no worksheet {_title(sheet.name)}", hint=f"it has {', '.join(pages)}"))
            continue
        lines = [line for line in page.iter_rows(values_only=True) if any(one is not None for one in line)]
        reader = Reader(sheet, file, lambda at, title=page.title: f"{title} row {at + 2}", faults)  # type: ignore[misc]
        if lines:
            names = [str(one) for one in lines[0] if one is not None]
            changes += reader.changes(
                {
                    name: _values(sheet, name, [line[at] if at < len(line) else None for line in lines[1:]])
                    for at, name in enumerate(names)
                }
            )
        notes += reader.notes()
    Reader(document.sheets[0], file, str, faults).finish()
    return Incoming(changes, notes)


def _values(sheet: Sheet, name: str, cells: list[Any]) -> Any:
    """A column's cells as they came back: as texts, but for numbers among numbers."""
    from volvex.data.incoming import _text

    column = sheet.columns.get(name)
    if (
        column is not None
        and column.rule.sort == FLOAT
        and all(isinstance(one, int | float) for one in cells)
        and cells
    ):
        return np.array(cells, float)
    return np.array([*(_text(one) if one is not None else "" for one in cells), None], object)[:-1]
