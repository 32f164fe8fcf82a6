"""The columns of a record that is like no other."""

from __future__ import annotations

import dataclasses
from typing import Any

from volvex.layout.columns import Columns
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Attribute, Block, Choice, Constant, Field
from volvex.layout.records.block import Records
from volvex.layout.types.nested import exists
from volvex.source import BytesSource

PREFERRED = {
    attributes.CODEC: "none",
    attributes.KIND: "file",
    attributes.VARIANT: "none",
    attributes.EXTENSION: "none",
}


def blank_columns(block: Block) -> Columns:
    """The columns of one blank record."""
    values: dict[str, Any] = {}
    data = b""
    for field in block.fields:
        if field.type.in_record and exists(field, values):
            values[field.name] = _value(block, field)
            data += field.type.encode(values[field.name], values)
        elif field.type.uses == "bits":
            values[field.name] = 0
    fields = tuple(field for field in block.fields if field.type.in_record or field.type.uses == "bits")
    return (
        Records(dataclasses.replace(block, fields=fields, until=None))
        .read(BytesSource(data, block.name), 0, 1, len(data))
        .columns
    )


def _value(block: Block, field: Field) -> Any:
    if isinstance(field.meaning, Constant):
        return field.meaning.value
    choosing = (other.type for other in block.fields if isinstance(other.type, Choice) and other.type.by == field.name)
    choice = next(choosing, None)
    if choice is not None:
        return choice.table[0][0]
    if isinstance(field.meaning, Attribute) and field.meaning.table:
        return plainest(field, field.meaning.what)
    return field.type.blank()


def plainest(field: Field, what: str) -> int:
    """The number that a blank entry has in a field with a table: the plainest, or the first."""
    table = field.meaning.table if isinstance(field.meaning, Attribute) else ()
    return next((number for number, word in table if word == PREFERRED.get(what)), table[0][0])
