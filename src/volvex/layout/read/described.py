"""Columns that a file describes itself: the fields of its records, made of the names and types that another block
has."""

from __future__ import annotations

import re

from volvex.errors import FormatError, LayoutError
from volvex.layout.columns import Texts
from volvex.layout.kinds.table import NAME, TYPE, WIDTH
from volvex.layout.model import Attribute, Block, Field
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.types.described import ColumnsOf

KEYS = ("id", "key")  # columns of these names are what records are found by
MOST = 4096  # columns


def own_fields(reading: Reading, block: Block) -> list[Field]:
    """The fields of a block in this file; FormatError when a column is of a type that the layout does not give."""
    fields = list[Field]()
    for field in block.fields:
        if isinstance(field.type, ColumnsOf):
            fields += _described(reading, block, field, field.type)
        else:
            fields.append(field)
    return fields


def _described(reading: Reading, block: Block, field: Field, kind: ColumnsOf) -> list[Field]:
    shape = reading.blocks.get(kind.block)
    if shape is None or len(shape.starts) > MOST:
        raise FormatError(
            reading.source.name,
            f"the columns of {block.name} are described by {kind.block}, which this file has not"
            if shape is None
            else f"{len(shape.starts):,} columns in {block.name}",
            hint="another layout",
        )
    types = reading.decode_numbers(shape, _field(shape, TYPE)).tolist()
    wide = _field(shape, WIDTH, False)
    widths = reading.decode_numbers(shape, wide).tolist() if wide is not None else [None] * len(types)
    taken = {field.name for field in block.fields}
    lines, keyed = list[str](), False
    for row, (name, number, width) in enumerate(zip(_names(shape), types, widths, strict=True)):
        text = kind.type_text(number, width)
        if text is None:
            raise FormatError(
                reading.source.name,
                f"{number} is no type of a column in the layout"
                if number not in dict(kind.table)
                else f"the column {name} is {width} wide",
                offset=shape.offset(row, _field(shape, TYPE).name),
                field=shape.where(row, _field(shape, TYPE).name),
                hint="adding the number to the table of types",
            )
        own = _free(name, taken)
        role = "id" if own.lower() in KEYS and not keyed and not text.endswith("bytes") else "value"
        keyed = keyed or role == "id"
        lines.append(f"    {own}  {text}  {role}")
    from volvex.layout.language.parser import parse_layout  # only here: the parser takes a while to load

    head = f"{'big' if kind.big else 'little'} endian\nblock rows at 0 repeats until end\n"
    try:
        made = parse_layout(f'layout "columns" kind table\n{head}' + "\n".join(lines) + "\n", "the columns")
    except LayoutError as error:
        raise FormatError(
            reading.source.name, f"its columns cannot be read: {error.problem}", hint="another layout"
        ) from error
    return list(made.blocks[0].fields) if lines else []


def _field(shape: BlockRead, what: str, needed: bool = True) -> Field:
    found = (
        field for field in shape.block.fields if isinstance(field.meaning, Attribute) and field.meaning.what == what
    )
    return next(found) if needed else next(found, None)  # type: ignore[return-value]


def _names(shape: BlockRead) -> list[str]:
    column = shape.columns[_field(shape, NAME).name]
    assert isinstance(column, Texts)
    return [raw.decode(column.encoding, "replace") for raw in column.raws()]


def _free(name: str, taken: set[str]) -> str:
    """A column's name as a field can have it: words and digits, each once."""
    plain = re.sub(r"\W", "_", name, flags=re.ASCII).lstrip("_0123456789") or "column"
    own, number = plain, 2
    while own in taken:
        own, number = f"{plain}_{number}", number + 1
    taken.add(own)
    return own
