"""CSV (RFC 4180), UTF-8 with its mark so that spreadsheets know it; of texts with --language id, use, original,
translation.

Read and written with pandas: a column of numbers is read as numbers at once where it holds nothing else.
"""

from __future__ import annotations

import csv
import io
import re
import warnings
from collections.abc import Iterable, Mapping
from typing import Any

import numpy as np

from volvex.data.exchange import Incoming, Wanted, one_sheet, text_of
from volvex.data.exchange.incoming import ROW, Reader
from volvex.data.exchange.units import HEADS, changed_units, units
from volvex.data.model.cells import objects
from volvex.data.model.sheet import FLOAT, INT, Array, Column, Document, Sheet
from volvex.errors import FormatError
from volvex.extras import require

EXTENSIONS = ("csv",)
FORMS = ()
MARK = b"\xef\xbb\xbf"
SEPARATORS = (",", "\t", ";")
_FORMULA = re.compile(r"'*[=+\-@\t\r]")  # what spreadsheets compute, or would once an apostrophe is taken off
_GUARDED = re.compile(r"'+[=+\-@\t\r]")
FIRST = frozenset("'=+-@\t\r")
_NUMBER = re.compile(r"-?[0-9]+(\.[0-9]+)?")
BLOCK = 1 << 22  # bytes looked at at once
STEP = 1 << 17  # records written at once


def write(document: Document, wanted: Wanted, separator: str = ",") -> bytes:
    """The file."""
    require("pandas", "CSV and TSV tables")
    import pandas as pd

    if wanted.language:
        rows = [(unit.id, unit.use, unit.original, unit.translation) for unit in units(document, wanted)]
        frame = pd.DataFrame(rows, columns=list(HEADS), dtype=object)
        frame = frame.map(_guarded)
        end = _line_end(frame[name].tolist() for name in HEADS)
        return MARK + frame.to_csv(index=False, sep=separator, lineterminator=end).encode()
    sheet = one_sheet(document, wanted)
    columns = {name: _cells(column) for name, column in _columns(sheet).items()}
    columns = {_guarded(name): values for name, values in columns.items()}
    texts = (name for name, values in columns.items() if values.dtype.kind == "O")
    end = _line_end(columns[name].tolist() for name in texts)
    out = io.StringIO(newline="")
    for first in range(0, max(1, len(sheet)), STEP):
        mapping = {name: values[first : first + STEP] for name, values in columns.items()}
        pd.DataFrame(mapping, copy=False).to_csv(out, index=False, sep=separator, header=first == 0, lineterminator=end)
    return MARK + out.getvalue().encode()


def _guarded(text: str) -> str:
    """A text that a spreadsheet would compute, with an apostrophe before it, so that none does; plain numbers stay."""
    return f"'{text}" if _FORMULA.match(text) and not _NUMBER.fullmatch(text) else text


def _bared(text: Any) -> Any:
    """The text of a guarded cell."""
    return text[1:] if isinstance(text, str) and _GUARDED.match(text) else text


def _line_end(columns: Iterable[list[Any]]) -> str:
    """What ends a record: where a value holds a carriage return the library only quotes it when that is part of it."""
    return "\r\n" if any("\r" in one for column in columns for one in column if one) else "\n"


def _columns(sheet: Sheet) -> dict[str, Column | Array]:
    """The columns to be written: those of the id first."""
    if not sheet.id:
        return {ROW: objects(sheet.ids), **sheet.columns}
    return {name: sheet.columns[name] for name in dict.fromkeys([*sheet.id, *sheet.columns])}


def _cells(column: Column | Array) -> Array:
    """A column for pandas: whole numbers as they are, others as the texts that give them back."""
    if isinstance(column, np.ndarray):
        return column
    values = column.values
    if values.dtype.kind in "iu":
        return values
    texts = column.texts()
    if column.rule.value_type not in (INT, FLOAT):
        texts = [_guarded(text) if text and text[0] in FIRST else text for text in texts]
    return np.array([*texts, None], object)[:-1]


def read(data: bytes, document: Document, wanted: Wanted, file: str) -> Incoming:
    """The changes that the file makes."""
    text_of(data, file)  # another encoding is refused before anything is read of it
    separator = _separator(data)
    if wanted.language:
        return changed_units(document, wanted, _records(data, separator, file), file)
    sheet = one_sheet(document, wanted)
    columns = _read_columns(data, separator, sheet, file)
    if b"'" in data:
        columns = {_bared(name): _all_bared(values) for name, values in columns.items()}
    whole = (
        data.count(b"\n") == len(next(iter(columns.values()), ())) + 1
    )  # no line is empty, no value goes over several
    reader = Reader(sheet, file, lambda at: f"line {at + 2}" if whole else f"record {at + 1}")
    changes = reader.changes(columns)
    reader.finish()
    return Incoming(changes, reader.notes())


def _all_bared(values: Array) -> Array:
    if values.dtype.kind in "iuf":
        return values
    return np.array([*map(_bared, values.tolist()), None], object)[:-1]


def _separator(data: bytes) -> str:
    head = data[: 1 << 16].partition(b"\n")[0].decode("utf-8", "replace")
    return max(SEPARATORS, key=head.count)


def _frame(data: bytes, separator: str, file: str, **how: Any) -> Any:
    require("pandas", "CSV and TSV tables")
    import pandas as pd

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", pd.errors.ParserWarning)  # values behind the last column would be lost
            warnings.simplefilter("error", RuntimeWarning)  # what is no whole number would become some other
            frame = pd.read_csv(
                io.BytesIO(data),
                sep=separator,
                keep_default_na=False,
                na_filter=False,
                encoding="utf-8-sig",
                encoding_errors="surrogateescape",
                index_col=False,
                low_memory=False,
                **how,
            )
    except pd.errors.ParserWarning as error:
        raise FormatError(
            file, "a record has more values than the first line", hint="quotes around a value that holds the separator"
        ) from error
    except (pd.errors.ParserError, pd.errors.EmptyDataError) as error:
        raise FormatError(file, f"not a valid table: {error}", hint="a program that writes CSV by RFC 4180") from error
    if len(frame) and (frame[frame.columns[-1]] == "").any():
        _check_widths(data, separator, len(frame.columns), file)
    return frame


def _check_widths(data: bytes, separator: str, width: int, file: str) -> None:
    """FormatError when a record ends before its last value: pandas takes that for an empty text."""
    text = io.StringIO(data.decode("utf-8-sig", "surrogateescape"), newline="")
    for number, line in enumerate(csv.reader(text, delimiter=separator)):
        if line and len(line) < width:
            raise FormatError(
                file,
                f"record {number} has {len(line)} values, the first line {width}",
                hint="the file as it was written",
            )


def _read_columns(data: bytes, separator: str, sheet: Sheet, file: str) -> Mapping[str, Any]:
    """The columns of the file: numbers where a column of the sheet has numbers and so has the file."""
    titles = [str(column) for column in _frame(data, separator, file, dtype=object, nrows=0).columns]
    own = {name: sheet.columns.get(_bared(name)) for name in titles}
    kinds = {name: column.values.dtype if column is not None else np.dtype(object) for name, column in own.items()}
    rounded = _has_exponent(data)  # a whole number that was rounded must not be read as one
    asked = {name: kind if kind.kind in "iu" and not rounded else object for name, kind in kinds.items()}
    try:
        frame = _frame(data, separator, file, dtype=asked)
    except (ValueError, OverflowError, RuntimeWarning):  # something that is no number: all as texts, to tell which
        frame = _frame(data, separator, file, dtype=object)
    return {
        name: _as_floats(frame[name].to_numpy()) if kinds[name].kind == "f" else frame[name].to_numpy()
        for name in titles
    }


def _has_exponent(data: bytes) -> bool:
    """Whether some number may be written as `1.2E+17`: an e between a digit and a digit or a plus. Looked for in
    bulk."""
    for start in range(0, len(data), BLOCK):
        values = np.frombuffer(data, np.uint8, min(BLOCK + 2, len(data) - start), start)
        at = np.flatnonzero((values[1:-1] | 0x20) == ord("e")) + 1
        before, after = values[at - 1], values[at + 1]
        digits = (before >= 0x30) & (before <= 0x39)
        if bool((digits & ((after == ord("+")) | ((after >= 0x30) & (after <= 0x39)))).any()):
            return True
    return False


def _as_floats(cells: Array) -> Array:
    """Cells as numbers, read exactly; as they are when one is none."""
    try:
        return cells.astype(np.float64)
    except ValueError:
        return cells


def _records(data: bytes, separator: str, file: str) -> list[tuple[str, dict[str, str]]]:
    frame = _frame(data, separator, file, dtype=object)
    lacking = [name for name in (HEADS[0], HEADS[3]) if name not in frame.columns]
    if lacking:
        raise FormatError(file, f"no column {lacking[0]}", hint=f"the columns {', '.join(HEADS)}")
    return [
        (f"line {at}", {str(k): _bared(str(v)) for k, v in row.items()})
        for at, row in enumerate(frame.to_dict("records"), 2)
    ]
