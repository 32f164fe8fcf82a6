"""The fields that are expressions, computed from what is being written."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any, Protocol

import numpy as np

from volvex.errors import CapacityError, FormatError
from volvex.layout.checksums import checksum_value
from volvex.layout.columns import AllColumns, Array, Columns, Texts
from volvex.layout.expression import Expression, Value, numbers, sums_over_content, value_of
from volvex.layout.model import Block, Computed, Field, IntegerType, Raw
from volvex.layout.order import computed_order, covers, needs_bytes
from volvex.layout.read.blocks import BlockRead, Reading, upper_field
from volvex.layout.read.scope import as_stored, owned, true_values
from volvex.layout.records.numbers import present
from volvex.layout.write.entry_facts import EntryFacts

Settle = Callable[[Field], Field]
Measured = Callable[[str, str], int]
Covered = Callable[[str], bytes]


class Entries(Protocol):
    """What is asked of the directory that is being written."""

    def facts(self) -> EntryFacts: ...

    def put(self, columns: AllColumns, block: BlockRead, field: Field, values: Array, rows: Array | None) -> None: ...


class WriteScope:
    """A file as it is being written, as the fields of one block see it."""

    def __init__(self, computing: Computing, block: BlockRead, covered: Covered | None) -> None:
        self.computing, self.block, self._covered = computing, block, covered
        self.columns = computing.columns

    def is_column(self, expression: Expression) -> bool:
        return owned(expression, self.computing.reading.layout, self.block.block)

    def field(self, name: str) -> Value:
        if name in self.columns[self.block.block.name]:
            values = self._values(self.block, name)
            return values if self.block.block.repeats else values[0]
        home, _, rest = name.partition(".")
        block = self.computing.reading.blocks.get(home)
        if block is None or rest not in self.columns[home]:
            return 0
        values = self._values(block, rest)
        return values if block.block.repeats or not len(values) else values[0]

    def _values(self, block: BlockRead, name: str) -> Value:
        own = self.columns[block.block.name]
        field = next(field for field in block.block.fields if field.name == name)
        upper = upper_field(block.block, field)
        upper = None if upper is field else upper
        settled = self.computing.settle(field)
        return true_values(own[name], settled, (upper, own[upper.name]) if upper else None)

    def measure(self, what: str, part: str) -> int:
        return self.computing.measure(what, part)

    def fact(self, what: str) -> Array:
        return numbers(self.computing.directory.facts().of(what))

    def names(self) -> tuple[list[bytes], str]:
        return self.computing.directory.facts().names()

    def bytes_of(self, part: str) -> bytes:
        assert self._covered is not None
        return self._covered(part)

    def sum_of(self, algorithm: str, data: bytes) -> int:
        return checksum_value(algorithm, data)

    def content_sum(self, algorithm: str, part: str) -> Array:
        return numbers(self.computing.directory.facts().content_sums(algorithm, part)[0])


class Computing:
    """Puts the values of expressions into the columns of one round of placing."""

    def __init__(self, reading: Reading, directory: Entries, settle: Settle, measure: Measured) -> None:
        self.reading, self.directory, self.settle, self.measure = reading, directory, settle, measure
        self.order = computed_order(reading.layout)[0]
        self.columns: AllColumns = {}

    def put(self, columns: AllColumns) -> None:
        """The fields that need nothing but places, facts and other fields."""
        self.columns = columns
        for block, field in self.order:
            if not needs_bytes(self.reading.layout, field):
                self._put(self.reading.blocks[block.name], field, None)

    def put_sorting(self, columns: AllColumns) -> None:
        """The fields by which records are sorted: they are made of names, and known before anything has a place."""
        self.columns = columns
        for block, field in self.order:
            if block.sorted_by == field.name:
                self._put(self.reading.blocks[block.name], field, None)

    def put_summed(self, block: Block, covered: Covered) -> None:
        """The fields of a block that need the bytes of blocks and parts, which are written by now."""
        for field in self.summed(block):
            self._put(self.reading.blocks[block.name], field, covered)

    def summed(self, block: Block) -> list[Field]:
        """The fields that `put_summed` fills, last those that cover their own block."""
        found = [
            field for home, field in self.order if home.name == block.name and needs_bytes(self.reading.layout, field)
        ]
        return sorted(found, key=lambda field: covers(field, block.name))

    def blank(self, block: Block, field: Field) -> None:
        """Zeros in a field, as its own checksum sees it."""
        self._store(self.reading.blocks[block.name], field, [0 if isinstance(field.type, IntegerType) else b""], None)

    def _put(self, block: BlockRead, field: Field, covered: Covered | None) -> None:
        assert isinstance(field.meaning, Computed)
        try:
            value = value_of(field.meaning.value, WriteScope(self, block, covered))
        except (ArithmeticError, ValueError, TypeError) as error:
            raise FormatError(self.reading.source.name, f"`{field.words}` cannot be computed: {error}") from error
        rows = None
        columns = self.columns[block.block.name]
        if field.when is not None:
            rows = np.flatnonzero(present(block.block.fields, field.when, columns))
        if keys := sums_over_content(field.meaning.value):  # of other content nobody has read it: what is stored stays
            known = self.directory.facts().content_sums(*keys[0])[1]
            rows = known if rows is None else np.intersect1d(rows, known)
        self._store(block, field, as_stored(value, field), rows)

    def _store(self, block: BlockRead, field: Field, values: list[Any], rows: Array | None) -> None:
        columns = self.columns[block.block.name]
        column = columns[field.name]
        values = values * len(column) if len(values) == 1 else values
        if isinstance(column, Texts):
            self._store_texts(columns, field, values, rows, column)
            return
        if isinstance(field.type, Raw):
            values = self._fitted(field, values)
            made: Any = np.frombuffer(b"".join(values), f"V{field.type.size}") if values else column
            columns[field.name] = made if rows is None else _merged(column, made, rows)
            return
        chosen = values if rows is None else [values[row] for row in rows.tolist()]
        plain = replace(field, when=None)
        self.directory.put(self.columns, block, self.settle(plain), np.array(chosen, object), rows)

    def _store_texts(self, columns: Columns, field: Field, values: list[Any], rows: Array | None, old: Texts) -> None:
        raws = old.raws()
        for row in range(len(raws)) if rows is None else rows.tolist():
            raws[row] = values[row]
        columns[field.name] = Texts.of(raws, old.encoding)

    def _fitted(self, field: Field, values: list[Any]) -> list[bytes]:
        size = field.type.fixed_size or 0
        for value in values:
            if len(value) != size and value:
                raise CapacityError(
                    self.reading.source.name,
                    f"`{field.words}` gives {len(value)} bytes, the field has {size}",
                    field=field.name,
                )
        return [value or bytes(size) for value in values]


def _merged(old: Any, new: Any, rows: Array) -> Any:
    made = old.copy()
    made[rows] = new[rows]
    return made
