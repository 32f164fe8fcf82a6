"""Texts that look as if they were in another encoding: zeros between their letters, or behind what is taken for their end."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.layout.columns import Texts
from volvex.layout.inspect.hints._hint import Hint
from volvex.layout.model import Field, Text
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.records.block import REST

LEAST = 4  # texts
LOOKED = 2000


def hints(reading: Reading) -> Iterator[Hint]:
    for block in reading.blocks.values():
        for field in block.block.fields:
            if isinstance(field.type, Text) and field.type.width == 1 and _has_zeros(block, field):
                where = f"{block.block.name}.{field.name}"
                yield Hint(
                    where,
                    f"texts of {where} have zeros between their letters, as those in UTF-16 have",
                    f"{field.name}  {field.type} in utf-16",
                )


def _has_zeros(block: BlockRead, field: Field) -> bool:
    """Whether nearly all texts of some length have a zero behind (or before) each letter."""
    column, rest = block.columns.get(field.name), block.columns.get(f"{REST} {field.name}")
    if not isinstance(column, Texts):
        return False
    raws = column.raws()[:LOOKED]
    if isinstance(rest, Texts):
        raws = [raw + behind for raw, behind in zip(raws, rest.raws()[:LOOKED], strict=True)]
    long = [raw.rstrip(b"\0") for raw in raws if len(raw.rstrip(b"\0")) > 2]
    zeros = [raw for raw in long if not any(raw[1::2]) or not any(raw[::2])]
    return len(long) >= LEAST and len(zeros) * 10 >= len(long) * 9
