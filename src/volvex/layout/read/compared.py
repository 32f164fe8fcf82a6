"""Fields that are expressions, compared with what is stored: for a whole column, or for the entry whose content was
summed."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from volvex.codec import Sum
from volvex.errors import FormatError
from volvex.layout.columns import taken
from volvex.layout.expression import numbers, value_of
from volvex.layout.model import Computed, Field, Raw, Text
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.read.scope import ReadScope, as_stored


def compare(reading: Reading, block: BlockRead, field: Field, wanted: list[Any], first: int = 0) -> None:
    """FormatError for the first record whose field is not what is wanted; one value is that of all. `first` is the
    number of the first record."""
    scope = ReadScope(reading, block, own=field)
    found = scope.stored(field)
    there = block.present(field)
    for row in np.flatnonzero(there).tolist():
        value = wanted[row] if len(wanted) > 1 else wanted[0]
        if found[row] != value:
            raise FormatError(
                block.source.name,
                f"{_shown(found[row], field)}, but `{field.words}` gives {_shown(value, field)}",
                offset=block.offset(row, field.name),
                field=block.where(first + row, field.name),
                hint="a fresh copy of the file, or another layout",
            )


def _shown(value: Any, field: Field) -> str:
    if isinstance(value, bytes):
        return value.hex(" ") if isinstance(field.type, Raw) else repr(value)[1:]
    digits = field.type.fixed_size or 0
    checksum = isinstance(field.type, Text) or (isinstance(field.meaning, Computed) and value > 0xFFFF)
    return f"0x{value:0{2 * digits}x}" if checksum and value >= 0 else f"{value:,}"


def compare_content_sum(reading: Reading, block: BlockRead, field: Field, row: int, total: Sum) -> None:
    """FormatError when an entry's field is not what its expression gives with this checksum over the content."""
    assert isinstance(field.meaning, Computed)
    rows = np.array([row])
    if not block.present(field)[row]:
        return
    one = replace(
        block, columns={name: taken(column, rows) for name, column in block.columns.items()}, starts=block.starts[rows]
    )
    scope = ReadScope(reading, one, own=field, sums=lambda algorithm, part: numbers([total.value()]))
    compare(reading, one, field, as_stored(value_of(field.meaning.value, scope), field), row)
