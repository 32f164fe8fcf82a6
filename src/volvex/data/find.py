"""Finding values and texts in data: by id and field, with where a text is used."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from volvex.data.model.cells import places_in_pool
from volvex.data.model.layout_document import LayoutDocument
from volvex.data.model.sheet import BYTES, FLOAT, INT, LIST, Array, Column, Document, Sheet
from volvex.layout.columns import Texts
from volvex.layout.model import Value


@dataclass(frozen=True)
class CellHit:
    """A cell that holds what was searched for; `use` is where a text is used, when the table tells."""

    sheet: str
    id: str
    field: str
    text: str
    start: int = 0  # where in the text
    end: int = 0
    use: str = ""


def values(document: Document, wanted: str) -> Iterator[CellHit]:
    """The cells that are this value: the same text, or the same number."""
    for sheet in document.sheets:
        if sheet.cells is not None:
            told = (wanted, f'"{wanted}"')
            for row, cells in enumerate(sheet.cells):
                for name, text in cells.items():
                    if text in told:
                        yield CellHit(sheet.name, sheet.id_of(row), name, text, 0, len(text))
            continue
        for name, column in sheet.columns.items():
            for row in _same(column, wanted):
                text = column.text(row) or ""
                yield CellHit(sheet.name, sheet.id_of(row), name, text, 0, len(text), use_of(sheet, row))


def _same(column: Column, wanted: str) -> list[int]:
    if column.rule.value_type in (BYTES, LIST):
        return []
    cells = column.values
    if cells.dtype.kind in "iuf":
        try:
            number = int(wanted) if column.rule.value_type == INT else float(wanted)
        except ValueError:
            return []
        if column.rule.value_type == FLOAT:
            number = float(cells.dtype.type(number))
        elif not np.iinfo(cells.dtype).min <= number <= np.iinfo(cells.dtype).max:
            return []
        return np.flatnonzero(cells == number).tolist()
    quoted = f'"{wanted}"'  # a text in JSON that looks like a number
    return [
        row
        for row, cell in enumerate(cells.tolist())
        if cell in (wanted, quoted) or (isinstance(cell, int) and str(cell) == wanted)
    ]


def texts(document: Document, pattern: re.Pattern[str]) -> Iterator[CellHit]:
    """The cells in which a text stands."""
    for sheet in document.sheets:
        if sheet.cells is not None:
            for row, cells in enumerate(sheet.cells):
                for name, text in cells.items():
                    match = pattern.search(text)
                    if match is not None:
                        yield CellHit(sheet.name, sheet.id_of(row), name, text, match.start(), match.end())
            continue
        for name, column in sheet.columns.items():
            if column.rule.value_type in (INT, FLOAT, BYTES, LIST):
                continue
            for row in _rows(document, sheet, column, pattern):
                cell = column.text(row)
                match = pattern.search(cell) if cell is not None else None
                if match is not None and cell is not None:
                    yield CellHit(
                        sheet.name, sheet.id_of(row), name, cell, match.start(), match.end(), use_of(sheet, row)
                    )


def _rows(document: Document, sheet: Sheet, column: Column, pattern: re.Pattern[str]) -> list[int]:
    """The records whose cell may hold a text: found among the stored bytes where they are texts, without decoding
    one."""
    stored = _stored(document, sheet, column)
    if stored is None or pattern.flags & re.IGNORECASE:
        return [
            row for row, cell in enumerate(column.values.tolist()) if isinstance(cell, str) and pattern.search(cell)
        ]
    texts, places = stored
    try:
        needle = re.sub(r"\\(.)", r"\1", pattern.pattern).encode(texts.encoding)
    except UnicodeEncodeError:
        return []
    rows = _holding(texts, needle)
    return rows.tolist() if places is None else np.flatnonzero(np.isin(places, rows)).tolist()


def _holding(texts: Texts, needle: bytes) -> Array:
    """Which texts hold some bytes. They lie in the order in which they are."""
    found = np.array([match.start() for match in re.finditer(re.escape(needle), texts.data)], np.int64)
    if not len(found) or not len(texts):
        return np.zeros(0, np.int64)
    rows = np.searchsorted(texts.starts, found, "right") - 1
    inside = (rows >= 0) & (found + len(needle) <= texts.starts[rows] + texts.lengths[rows])
    return np.unique(rows[inside])


def _stored(document: Document, sheet: Sheet, column: Column) -> tuple[Texts, Array | None] | None:
    """A column's texts as they are stored; of a pool, which of its texts each record has. None for what is not so."""
    if not isinstance(document, LayoutDocument):
        return None
    for root in document.roots:
        block, field = (
            document.fields(root).get(column.name, (None, None)) if root.block.name == sheet.group else (None, None)
        )
        if block is None or field is None or not isinstance(field.meaning, Value) or sheet.name != sheet.group:
            continue
        places = None
        if field.meaning.pool:
            numbers = places_in_pool(document.reading, block, field, field.meaning)
            block, field = document.reading.blocks[field.meaning.pool], document.pools.pools[field.meaning.pool]
            starts = block.starts - block.start
            exact = np.searchsorted(starts, numbers, "right") - 1
            if bool((starts[exact] != numbers).any()):
                return None  # some point into the middle of a text
            places = exact
        texts = block.columns[field.name]
        ascending = isinstance(texts, Texts) and bool((texts.starts[1:] >= texts.starts[:-1]).all())
        return (texts, places) if isinstance(texts, Texts) and ascending else None
    return None


def use_of(sheet: Sheet, row: int) -> str:
    """Where a text is used, when its table tells."""
    column = next((column for column in sheet.columns.values() if column.rule.role == "context"), None)
    return (column.text(row) or "") if column is not None else ""
