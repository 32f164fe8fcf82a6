"""Numbers as fields store them <-> true ones, a column at a time; and conditions on columns."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from volvex.errors import CapacityError, FormatError
from volvex.layout.arithmetic import NotMultipleError
from volvex.layout.columns import Array, Column, Columns, Texts
from volvex.layout.model import Condition, Field, IntegerType, When
from volvex.source import Source

LARGEST = 1 << 62  # no number in a file is larger and makes sense


def holds(when: Condition, column: Column) -> Array:
    """For which records a condition on a column of stored values holds."""
    if isinstance(when.value, bytes):
        raws = column.raws() if isinstance(column, Texts) else [value.tobytes() for value in column]
        same = np.array([raw == when.value for raw in raws], bool)
        return same if when.how == "is" else ~same
    assert not isinstance(column, Texts)
    wide = column.dtype.itemsize == 8 and column.dtype.kind == "u"
    values: Any = column.astype(object) if wide else column.astype(np.int64)
    return np.asarray(when.test(values), bool)


def present(fields: Sequence[Field], when: When, columns: Columns) -> Array:
    """In which records a field with this condition is there; a condition on a field that is not there does not hold."""

    def test(condition: Condition) -> Array:
        mask = holds(condition, columns[condition.field])
        asked = next((field for field in fields if field.name == condition.field), None)
        return mask if asked is None or asked.when is None else mask & present(fields, asked.when, columns)

    mask: Array = when.asked(test)
    return mask


def encode_numbers(values: Array, field: Field, index: str) -> Array:
    """True numbers as `field` stores them (its changes undone); FormatError when one cannot be stored."""
    kind = field.type
    assert isinstance(kind, IntegerType)
    try:
        stored = values.astype(object) if _wide(field) else values.astype(np.int64)
    except OverflowError as error:
        worst = max(values.tolist(), key=abs)
        raise CapacityError(
            index, f"{worst} does not fit {field.type}", field=field.name, hint="a smaller number"
        ) from error
    for change in reversed(field.changes):
        try:
            stored = change.undo(stored)
        except NotMultipleError as error:
            problem = f"a place that is not a multiple of {change.number} cannot be stored"
            raise FormatError(index, problem, field=field.name) from error
    low, high = kind.limits
    if len(stored) and (int(stored.min()) < low or int(stored.max()) > high):
        worst = int(stored.max()) if int(stored.max()) > high else int(stored.min())
        raise CapacityError(
            index,
            f"{worst} does not fit {field.type}, which goes up to {high}",
            field=field.name,
            hint="less content, or a format with wider numbers",
        )
    return stored.astype(kind.numbers_dtype)


def _wide(field: Field) -> bool:
    """Whether a field's numbers may go beyond what 64 bits with a sign hold."""
    wide = isinstance(field.type, IntegerType) and field.type.limits[1] >= LARGEST
    return wide or any(change.number >= LARGEST for change in field.changes)


def _applied(numbers: Array, field: Field) -> Array:
    for change in field.changes:
        numbers = change.apply(numbers)
    return numbers


def decode_numbers(values: Array, field: Field, source: Source, starts: Array) -> Array:
    """The true numbers (int64) that `field` stores; FormatError when one is beyond all sense."""
    if not len(values):
        return np.zeros(0, np.int64)
    if any(change.how == "record" for change in field.changes):
        plain = replace(field, changes=tuple(change for change in field.changes if change.how != "record"))
        return decode_numbers(values, plain, source, starts) + starts
    if all(change.how != "xor" for change in field.changes):  # the least stays the least
        least, most = int(values.min()), int(values.max())
        for change in field.changes:
            least, most = change.apply(least), change.apply(most)
        if most < LARGEST and least > -LARGEST:
            return _applied(values.astype(np.int64), field)
    numbers = _applied(values.astype(object), field)  # of any size
    wrong = np.asarray((numbers >= LARGEST) | (numbers <= -LARGEST), bool)
    if wrong.any():
        row = int(np.argmax(wrong))
        raise FormatError(
            source.name, f"{numbers[row]} is larger than any file", offset=int(starts[row]), field=field.name
        )
    return numbers.astype(np.int64)
