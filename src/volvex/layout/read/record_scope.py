"""What the key of one entry is made of, when it is an expression: the entry's record, and the place it has by now."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from volvex.layout.columns import Columns, taken
from volvex.layout.expression import Expression, Value, numbers, value_of
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.read.scope import ReadScope, true_values

OfEntries = Mapping[str, tuple[BlockRead, Columns]]  # the blocks of entries with columns of theirs, by name


class RecordScope(ReadScope):
    """One entry, by the row of its record in columns of its blocks."""

    def __init__(self, reading: Reading, columns: OfEntries, row: int, facts: Mapping[str, int], name: bytes) -> None:
        super().__init__(reading)
        self._columns, self._row, self._known, self._name = columns, np.array([row]), facts, name

    def field(self, name: str) -> Value:
        for block, columns in self._columns.values():
            found = block.block.field(name)
            if found is not None:
                return true_values(taken(columns[name], self._row), self.reading.settled(found))[0]
        return super().field(name)

    def fact(self, what: str) -> Any:
        return numbers([self._known[what]])

    def names(self) -> tuple[list[bytes], str]:
        assert self.reading.entries is not None
        return [self._name], self.reading.entries.names.encoding


def asked(expression: Expression, scope: RecordScope) -> int | bytes:
    """The value of an expression for one entry."""
    value = value_of(expression, scope)
    found: int | bytes = value[0] if isinstance(value, list | np.ndarray) else value
    return found
