"""A record that is like no other: for the first entry of an archive that has none."""

from __future__ import annotations

import dataclasses
from typing import Any

import numpy as np

from volvex.errors import RefusedError
from volvex.layout.columns import Columns, Texts, joined
from volvex.layout.entries import Entries
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Attribute, Block, Choice, Constant, Field
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.records.block import Records
from volvex.layout.types.nested import exists
from volvex.layout.write.plan import BLANK, Edit
from volvex.source import BytesSource

PREFERRED = {
    attributes.CODEC: "none",
    attributes.KIND: "file",
    attributes.VARIANT: "none",
    attributes.EXTENSION: "none",
}


def with_blank(reading: Reading, edit: Edit) -> tuple[Reading, Edit]:
    """The same when every new entry is like another; otherwise with a blank entry more, which is left out again.

    RefusedError for an archive of volumes, since a blank entry lies in none.
    """
    if all(added.like != BLANK for added in edit.added):
        return reading, edit
    if reading.layout.content.volumes:
        raise RefusedError(
            f"{reading.source.name} has no entry left that would give the volume of a new one",
            "an archive with at least one entry",
        )
    assert reading.entries is not None
    row = len(reading.entries)
    made = dataclasses.replace(reading, blocks=dict(reading.blocks), entries=_more(reading.entries), blanks=1)
    for block in reading.entry_blocks():
        made.blocks[block.block.name] = _extended(block)
    added = [dataclasses.replace(one, like=row) if one.like == BLANK else one for one in edit.added]
    return made, Edit(dict(edit.replaced), added, {*edit.removed, row})


def blank_codec(reading: Reading) -> str:
    """The codec of a blank entry."""
    found = reading.attribute(attributes.CODEC)
    if found is None or not isinstance(found[1].meaning, Attribute):
        return reading.layout.content.codec or "none"
    return dict(found[1].meaning.table)[_number(found[1], attributes.CODEC)]


def _more(entries: Entries) -> Entries:
    """The entries, and an empty one behind them."""
    zero = np.zeros(1, np.int64)
    return dataclasses.replace(
        entries,
        names=Texts.of([*entries.names.raws(), b""], entries.names.encoding),
        start=np.append(entries.start, zero),
        stored=np.append(entries.stored, zero),
        sizes=np.append(entries.size, zero),
        codec=np.append(entries.codec, zero),
        folders=None if entries.folders is None else np.append(entries.folders, False),
    )


def _extended(block: BlockRead) -> BlockRead:
    """A block with a blank record behind its own; its bytes stay as they are."""
    end = np.array([block.end])
    records = with_row(block.columns, blank_columns(block.block))
    ends = None if block.ends is None else np.append(block.ends, end)
    owners = None if block.owners is None else np.append(block.owners, 0)
    return dataclasses.replace(block, columns=records, starts=np.append(block.starts, end), ends=ends, owners=owners)


def with_row(columns: Columns, more: Columns) -> Columns:
    """Columns with a row of others behind their own."""
    return {name: joined([column, more[name]]) for name, column in columns.items() if name in more}


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
        return _number(field, field.meaning.what)
    return field.type.blank()


def _number(field: Field, what: str) -> int:
    """The number that a blank entry has in a field with a table: the plainest, or the first."""
    table = field.meaning.table if isinstance(field.meaning, Attribute) else ()
    return next((number for number, word in table if word == PREFERRED.get(what)), table[0][0])
