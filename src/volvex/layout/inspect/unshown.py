"""What a proof did not show: bytes that nobody knows, and what of the layout the file never used."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from volvex.layout.columns import Texts
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Attribute, Opaque
from volvex.layout.read.blocks import BlockRead, Reading


def unshown(reading: Reading) -> Iterator[str]:
    """Each thing in few words."""
    kept = [
        (block, field.name)
        for block in reading.blocks.values()
        for field in block.block.fields
        if isinstance(field.meaning, Opaque) and field.type.in_record
    ]
    size = sum(_bytes_in(block, name) for block, name in kept)
    if kept and size:
        fields = "1 field" if len(kept) == 1 else f"{len(kept):,} fields"
        yield f"what the {size:,} kept bytes in {fields} mean"
    entries = reading.entries
    if entries is None or not len(entries):
        return
    if bool((entries.bare > 0).all()):
        yield "an empty entry"
    yield from _unused_codecs(reading)
    for block in reading.blocks.values():
        for field in block.block.fields:
            if field.when is None or not len(block.starts):
                continue
            there = block.present(field)
            if not there.any():
                yield f"a record with `{field.name}`"
            elif there.all():
                yield f"a record without `{field.name}`"


def _unused_codecs(reading: Reading) -> Iterator[str]:
    found, entries = reading.attribute(attributes.CODEC), reading.entries
    if found is None or entries is None or not isinstance(found[1].meaning, Attribute):
        return
    used = {entries.codecs[number] for number in np.unique(entries.codec).tolist() if number >= 0}
    for name in dict.fromkeys(name for _, name in found[1].meaning.table):
        if name not in used:
            yield f"content as {name}"


def _bytes_in(block: BlockRead, name: str) -> int:
    """The bytes of a field in all records that have it."""
    field = block.block.field(name)
    assert field is not None
    column = block.columns[name]
    if isinstance(column, Texts):
        return int(column.lengths.sum())
    return (field.type.fixed_size or 0) * int(block.present(field).sum())
