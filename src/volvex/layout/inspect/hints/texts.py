"""Texts that look as if they were in another encoding, or had padding: zeros between or behind their letters, bytes
that are none."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from volvex.layout.columns import Texts
from volvex.layout.inspect.hints._hint import Hint
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Field, Text
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.records.block import REST

LEAST = 4  # texts
LOOKED = 2000
MULTIPLES = (16, 8, 4, 2)


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
            elif isinstance(field.type, Text) and (multiple := _multiple(block, field, field.type)):
                where = f"{block.block.name}.{field.name}"
                yield Hint(
                    where,
                    f"texts of {where} have zeros at their ends, up to multiples of {multiple}",
                    f"{field.name}  {field.type} padded {multiple} counted",
                )
    yield from _undecodable(reading)


def _multiple(block: BlockRead, field: Field, kind: Text) -> int:
    """The multiple up to which zeros that are taken for letters fill all texts of a field; 0 when they do not."""
    column = block.columns.get(field.name)
    if kind.prefix is None or kind.whole or field.when is not None or not isinstance(column, Texts):
        return 0
    sizes = column.lengths + kind.prefix.min_size + kind.ending
    filled = sum(raw.endswith(b"\0" * kind.width) for raw in column.raws()[:LOOKED])
    fitting = (number for number in MULTIPLES if len(np.unique(sizes)) >= 2 and not (sizes % number).any())
    return next(fitting, 0) if filled >= LEAST else 0


def _undecodable(reading: Reading) -> Iterator[Hint]:
    """Names that are no texts in their encoding, or hold characters that no name has."""
    found = reading.attribute(attributes.NAME)
    column = found[0].columns[found[1].name] if found is not None else None
    if found is None or not isinstance(column, Texts) or column.encoding != "utf-8":
        return
    raws = column.raws()
    wrong = sum(not _is_text(raw) for raw in raws)
    if wrong:
        block = found[0].block.name
        yield Hint(
            f"{block}.{found[1].name}",
            f"{wrong:,} of {len(raws):,} names are not UTF-8, or have control characters",
            f"{found[1].name}  {found[1].type} in cp1252, or padding before them: block {block} ... align 4",
        )


def _is_text(raw: bytes) -> bool:
    try:
        return all(letter >= " " for letter in raw.rstrip(b"\0").decode())
    except UnicodeDecodeError:
        return False


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
