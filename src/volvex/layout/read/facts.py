"""What conditions and keys ask of an entry: the fields of its record, its place and its sizes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from volvex.layout.columns import Columns, Texts, taken
from volvex.layout.expression import Expression
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Condition, Field, IntegerType, When
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.records.numbers import holds
from volvex.layout.transforms import KeyFacts

KeyValue = tuple[int, int] | bytes  # a number and its bits, or bytes
AllColumns = Mapping[str, Columns]


@dataclass(frozen=True)
class Record:
    """The record of an entry, wherever it stands: the columns of the entries' blocks, and its row in them."""

    reading: Reading
    columns: AllColumns
    row: int

    @classmethod
    def of(cls, reading: Reading, row: int) -> Record:
        """The record of an entry as it was read."""
        return cls(reading, {block.block.name: block.columns for block in reading.entry_blocks()}, row)

    def field(self, name: str) -> tuple[BlockRead, Field] | None:
        """The field of that name, and its block."""
        for block in self.reading.entry_blocks():
            found = block.block.field(name)
            if found is not None:
                return block, found
        return None

    def scope(self, facts: Mapping[str, int], name: bytes) -> Any:
        """What an expression sees of an entry that has this record, these facts and this name."""
        from volvex.layout.read.record_scope import RecordScope  # few layouts have expressions

        blocks = self.reading.entry_blocks()
        columns = {block.block.name: (block, self.columns[block.block.name]) for block in blocks}
        return RecordScope(self.reading, columns, self.row, facts, name)

    def holds(self, when: When) -> bool:
        """Whether a condition on its fields holds."""

        def test(condition: Condition) -> bool:
            found = self.field(condition.field)
            if found is None:
                return False
            column = taken(self.columns[found[0].block.name][condition.field], np.array([self.row]))
            return bool(holds(condition, column)[0])

        answer: bool = when.asked(test)
        return answer


def known_facts(start: int, size: int, stored: int, number: int) -> dict[str, int]:
    """The facts of an entry by their names."""
    return {
        attributes.START: start,
        attributes.END: start + stored,
        attributes.SIZE: size,
        attributes.STORED: stored,
        attributes.OWN_NUMBER: number,
    }


def facts_of_key(record: Record, name: bytes, start: int, size: int, stored: int, number: int) -> KeyFacts:
    """What a key of an entry's content may come from."""
    known = known_facts(start, size, stored, number)

    def ask(expression: Expression) -> int | bytes:
        from volvex.layout.read.record_scope import asked  # few layouts have expressions

        return asked(expression, record.scope(known, name))

    fields = {
        name: stored_value(record.columns, block, field, record.row)
        for name, (block, field) in key_fields(record.reading).items()
    }
    return KeyFacts(name, start, size, stored, number, fields, ask, record.holds)


def key_facts(reading: Reading, row: int, *, start: int | None = None, number: int | None = None) -> KeyFacts:
    """What a key of an entry's content may come from; it may lie elsewhere by now, or have another number."""
    of = reading.entries
    assert of is not None
    place = int(of.start[row]) if start is None else start
    sizes = int(of.size[row]) if of.sized else 0, int(of.bare[row])
    record, raw = Record.of(reading, row), of.names.raw(row)
    facts = facts_of_key(record, raw, place, *sizes, row if number is None else number)
    if of.framed is None:
        return facts
    from volvex.layout.read.frames import around_of  # few layouts have such records

    outer = record.scope(known_facts(int(of.start[row]), *sizes, row), raw)
    return replace(facts, frame=around_of(reading, row, outer))


def key_fields(reading: Reading) -> dict[str, tuple[BlockRead, Field]]:
    """The fields of an entry's record that keys come from, by name."""
    derived = [derived for transform in reading.layout.content.transforms for derived in transform.derived]
    names = {one.field for one in derived if one.field}
    return {name: condition_field(reading, Condition(name, "is", 0)) for name in names}


def stored_value(columns: AllColumns, block: BlockRead, field: Field, row: int) -> KeyValue:
    """What a field of a record stores, as a key takes it."""
    column = columns[block.block.name][field.name]
    if isinstance(column, Texts):
        return column.raw(row)
    if isinstance(field.type, IntegerType):
        return int(column[row]), -(-field.type.value_bits // 8) * 8
    raw: bytes = column[row].tobytes()
    return raw


def condition_field(reading: Reading, when: Condition) -> tuple[BlockRead, Field]:
    """The field of the entries' records that a condition asks."""
    return next(
        (block, field) for block in reading.entry_blocks() for field in block.block.fields if field.name == when.field
    )
