"""Records in groups: each record of one block stores where its own group of another block's records lies, and how many
there are."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from volvex.errors import FRESH, ContentError, FormatError
from volvex.layout.columns import Array, joined
from volvex.layout.model import Block, Field, Measure
from volvex.layout.order import group_holder
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.records.block import Read, Records
from volvex.layout.transforms import INNER, unwrapped, wrap_of
from volvex.source import BytesSource, Source


def group_fields(holder: Block, name: str) -> dict[str, Field]:
    """The fields of a record that store the `start`, `count`, `length` or `end` of its group."""
    return {
        field.meaning.what: field
        for field in holder.fields
        if isinstance(field.meaning, Measure) and field.meaning.part == name and not field.meaning.upper
    }


def read_groups(reading: Reading, block: Block) -> BlockRead | None:
    """All groups of a block as one, each record with its owner; None when it has none. FormatError for groups that
    overlap."""
    home = group_holder(reading.layout, block)
    if home is None:
        return None
    holder, source = reading.blocks[home.name], reading.area(block.within)
    told = {what: reading.decode_numbers(holder, field) for what, field in group_fields(home, block.name).items()}
    starts = told["start"]
    lengths = told["end"] - starts if "end" in told else told.get("length")
    records, found, sizes = Records(block), list[Read](), np.zeros(len(starts), np.int64)
    stored: dict[bytes, bytes] = {}
    counts, used, left = np.zeros(len(starts), np.int64), 0, INNER
    for row, start in enumerate(starts.tolist()):
        count = int(told["count"][row]) if "count" in told else None
        length = int(lengths[row]) if lengths is not None else None
        if not (length if count is None else count):
            continue
        if block.transforms:
            size = int(told["stored length"][row])
            part, raw = _wrapped(holder, source, records, row, (start, count, length), size, left)
            stored[part.data] = raw
            left -= len(part.data) if length is None else 0
        else:
            part = _group(holder, source, records, row, (start, count, length))
            size = len(part.data)
        found.append(part)
        counts[row], sizes[row] = len(part.starts), size
        used += size
        if used > source.size:
            raise _fault(holder, row, "its records and those of others before it take more bytes than the file has")
    if not found:
        found = [records.read(BytesSource(b"", source.name), 0, 0, 0)]
    columns = {name: joined([part.columns[name] for part in found]) for name in found[0].columns}
    data = b"".join(part.data for part in found)
    places = np.concatenate([part.starts for part in found])
    regions = np.stack([starts, sizes], axis=1)
    _check_apart(holder, regions)
    owners = np.repeat(np.arange(len(counts)), counts)
    first = int(starts[sizes > 0].min()) if used else holder.end
    return BlockRead(records, source, first, data, columns, places, owners=owners, regions=regions, stored=stored)


def _wrapped(
    holder: BlockRead,
    source: Source,
    records: Records,
    row: int,
    where: tuple[int, int | None, int | None],
    size: int,
    most: int,
) -> tuple[Read, bytes]:
    """A group that is wrapped, its records counted as if they lay where it starts; and its stored bytes.

    `most`: the bytes that it may hold when nothing gives their number.
    """
    start, count, length = where
    if not 0 <= start <= start + size <= source.size or (count or 0) < 0:
        raise _fault(holder, row, f"a group of {size} bytes at {start:#x} is not in the file")
    raw = source.read(start, size)
    try:
        data = b"".join(unwrapped(wrap_of(records.block), [raw], length, most))
    except ContentError as error:
        raise _fault(holder, row, f"its group cannot be opened: {error.message}") from error
    found = records.read(BytesSource(data, source.name), 0, count, len(data))
    return replace(found, data=data, starts=found.starts + start), raw


def _group(
    holder: BlockRead, source: Source, records: Records, row: int, told: tuple[int, int | None, int | None]
) -> Read:
    start, count, length = told
    if not 0 <= start <= source.size or (count or 0) < 0 or (length or 0) < 0:
        raise _fault(holder, row, f"a group of {count if length is None else length} at {start:#x} is not in the file")
    return records.read(
        source, start, count, length, f"the layout: is the start in {holder.block.name} counted from there?"
    )


def _check_apart(holder: BlockRead, regions: Array) -> None:
    there = np.flatnonzero(regions[:, 1] > 0)
    order = there[np.argsort(regions[there, 0], kind="stable")]
    ends = regions[order, 0] + regions[order, 1]
    wrong = np.flatnonzero(regions[order[1:], 0] < ends[:-1])
    if len(wrong):
        raise _fault(holder, int(order[1:][wrong[0]]), "its records lie over those of another")


def _fault(holder: BlockRead, row: int, problem: str) -> FormatError:
    return FormatError(
        holder.source.name,
        problem,
        offset=int(holder.starts[row]),
        field=f"{holder.block.name}[{row}]",
        hint=FRESH,
        asked="another layout",
    )


def group_rows(block: BlockRead) -> Iterator[tuple[int, int, int, int, Block]]:
    """Of each group with records: where it lies, its size, its first row and the one behind its last, and how it is
    placed."""
    assert block.regions is not None and block.owners is not None
    for owner, (start, size) in enumerate(block.regions.tolist()):
        if size:
            first, last = np.searchsorted(block.owners, [owner, owner + 1]).tolist()
            yield start, size, first, last, block.rows[owner] if block.rows else block.block
