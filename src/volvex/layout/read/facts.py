"""What conditions and keys ask of an entry: the fields of its record, its place and its sizes."""

from __future__ import annotations

from collections.abc import Mapping

from volvex.layout.columns import Columns, Texts
from volvex.layout.model import Condition, Field, IntegerType
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.transforms import KeyFacts

KeyValue = tuple[int, int] | bytes  # a number and its bits, or bytes


def key_facts(reading: Reading, row: int, *, start: int | None = None, number: int | None = None) -> KeyFacts:
    """What a key of an entry's content may come from; it may lie elsewhere by now, or have another number."""
    of = reading.entries
    assert of is not None
    columns = {block.block.name: block.columns for block in reading.entry_blocks()}
    fields = {name: stored_value(columns, block, field, row) for name, (block, field) in key_fields(reading).items()}
    place = int(of.start[row]) if start is None else start
    sizes = int(of.size[row]) if of.sized else 0, int(of.stored[row])
    return KeyFacts(of.names.raw(row), place, *sizes, row if number is None else number, fields)


def key_fields(reading: Reading) -> dict[str, tuple[BlockRead, Field]]:
    """The fields of an entry's record that keys come from, by name."""
    derived = [derived for transform in reading.layout.content.transforms for derived in transform.derived]
    names = {one.field for one in derived if one.field}
    return {name: condition_field(reading, Condition(name, "is", 0)) for name in names}


def stored_value(columns: Mapping[str, Columns], block: BlockRead, field: Field, row: int) -> KeyValue:
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
