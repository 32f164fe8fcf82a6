"""A record that is like no other: for the first entry of an archive that has none."""

from __future__ import annotations

import dataclasses

import numpy as np

from volvex.errors import RefusedError
from volvex.layout.columns import Columns, Texts, joined
from volvex.layout.entries import Entries
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Attribute
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.records.blank import blank_columns, plainest
from volvex.layout.write.plan import BLANK, Edit


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
    return dict(found[1].meaning.table)[plainest(found[1], attributes.CODEC)]


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
        framed=None if entries.framed is None else np.append(entries.framed, zero),
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
