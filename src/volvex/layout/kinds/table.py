"""Tables: records of the same fields, found by a key."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.layout.kinds._data import DataKind, Problem
from volvex.layout.model import Attribute, IntegerType, Layout, Text
from volvex.layout.types.described import ColumnsOf

NAME, TYPE, WIDTH = COLUMN = ("column name", "column type", "column width")


def _check(layout: Layout) -> Iterator[Problem]:
    """What columns that the file describes need: a block before them with their names and types."""
    for block in layout.blocks:
        for field in block.fields:
            if not isinstance(field.type, ColumnsOf):
                continue
            shape = layout.block(field.type.block)
            whats = {
                one.meaning.what
                for one in (shape.fields if shape is not None else ())
                if isinstance(one.meaning, Attribute)
            }
            if shape is None or not shape.repeats or not {NAME, TYPE} <= whats:
                yield (
                    field.place,
                    f"nothing describes the columns of {block.name}",
                    f"a block {field.type.block} that repeats, with a `{NAME}` and a `{TYPE}`",
                )


DATA_KIND = DataKind(
    ("id", "value", "hidden"),
    _check,
    {NAME: (Text,), TYPE: (IntegerType,), WIDTH: (IntegerType,)},
    dict.fromkeys(COLUMN, "column"),
)
