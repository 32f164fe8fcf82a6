"""Finding values and texts in data: by key and field, with where a text is used."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.data.laidout import LaidOutData
from volvex.data.sheet import BYTES, FLOAT, INT, LIST, Column, Document, Sheet
from volvex.layout.columns import Texts
from volvex.layout.model import Value


@dataclass(frozen=True)
class CellHit:
    """A cell that holds what was searched for; `use` is where a text is used, when the table tells."""

    sheet: str
    key: str
    field: str
    text: str
    start: int = 0  # where in the text
    end: int = 0
    use: str = ""


def values(document: Document, wanted: str) -> Iterator[CellHit]:
    """The cells that are this value: the same text, or the same number."""
    for sheet in document.sheets:
        for name, column in sheet.columns.items():
            for row in _same(column, wanted):
                text = column.text(row) or ""
                yield CellHit(sheet.name, sheet.keys[row], name, text, 0, len(text), use_of(sheet, row))


def _same(column: Column, wanted: str) -> list[int]:
    if column.rule.sort in (BYTES, LIST):
        return []
    cells = column.values
    if cells.dtype.kind in "iuf":
        try:
            number = int(wanted) if column.rule.sort == INT else float(wanted)
        except ValueError:
            return []
        if column.rule.sort == FLOAT:
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
        for name, column in sheet.columns.items():
            if column.rule.sort in (INT, FLOAT, BYTES, LIST) or _is_absent(document, sheet, column, pattern):
                continue
            for row, cell in enumerate(column.values.tolist()):
                match = pattern.search(cell) if isinstance(cell, str) else None
                if match is not None:
                    yield CellHit(
                        sheet.name, sheet.keys[row], name, cell, match.start(), match.end(), use_of(sheet, row)
                    )


def _is_absent(document: Document, sheet: Sheet, column: Column, pattern: re.Pattern[str]) -> bool:
    """Whether the bytes of a column's texts plainly do not hold what is searched for, so that none needs to be decoded."""
    raw = _bytes_of(document, sheet, column)
    if raw is None or pattern.flags & re.IGNORECASE:
        return False
    data, encoding = raw
    plain = re.sub(r"\\(.)", r"\1", pattern.pattern)
    try:
        return plain.encode(encoding) not in data
    except UnicodeEncodeError:
        return True


def _bytes_of(document: Document, sheet: Sheet, column: Column) -> tuple[bytes, str] | None:
    if not isinstance(document, LaidOutData):
        return None
    for root in document.roots:
        found: Any = document.fields(root).get(column.name) if root.block.name == sheet.group else None
        if found is None or not isinstance(found[1].meaning, Value):
            continue
        block, one = found
        if one.meaning.pool:
            block, one = document.reading.blocks[one.meaning.pool], document.pools.pools[one.meaning.pool]
        texts = block.columns[one.name]
        return (texts.data, texts.encoding) if isinstance(texts, Texts) else None
    return None


def use_of(sheet: Sheet, row: int) -> str:
    """Where a text is used, when its table tells."""
    column = next((one for one in sheet.columns.values() if one.rule.role == "context"), None)
    return (column.text(row) or "") if column is not None else ""
