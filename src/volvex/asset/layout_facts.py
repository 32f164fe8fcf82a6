"""What a layout's fields say of a file that is one thing: a picture, a sound; read, and put in again."""

from __future__ import annotations

from volvex.errors import FormatError
from volvex.layout.columns import AllColumns, Array
from volvex.layout.model import Attribute, Field
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.records.numbers import encode_numbers


def number_of(reading: Reading, what: str, default: int = 1) -> int:
    """The number that a field of a file holds; the default when this file has no such field."""
    found = reading.attribute(what)
    if found is None or not bool(found[0].present(found[1])[:1].all()):
        return default
    return int(reading.decode_numbers(*found)[0])


def word_of(reading: Reading, what: str) -> str:
    """The word for the number that a field holds, by its table; empty when the file has no such field."""
    found = reading.attribute(what)
    if found is None:
        return ""
    block, field = found
    assert isinstance(field.meaning, Attribute)
    number = int(reading.decode_numbers(block, field)[0])
    word = dict(field.meaning.table).get(number)
    if word is None:
        raise FormatError(
            block.source.name,
            f"{number} is no {what} in the layout",
            offset=block.offset(0, field.name),
            field=block.where(0, field.name),
            hint="another layout, or adding the number to its table",
        )
    return word


def put_numbers(columns: AllColumns, reading: Reading, block: BlockRead, field: Field, numbers: Array) -> None:
    """Put the numbers of a field into the columns that are written."""
    name = f"{reading.source.name}, {block.block.name}"
    columns[block.block.name][field.name] = encode_numbers(numbers.astype(object), reading.settled(field), name)
