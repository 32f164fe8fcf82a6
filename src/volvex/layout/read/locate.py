"""Finding the blocks and parts of a file, one from the other."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from volvex.errors import FRESH, ContentError, FormatError
from volvex.layout.arithmetic import settled_condition
from volvex.layout.chunks import ChunkedSource, chunks_of
from volvex.layout.columns import Texts, joined, taken
from volvex.layout.decrypted import decrypted_view
from volvex.layout.expression import value_of
from volvex.layout.kinds import archive as attributes
from volvex.layout.language.resolve import ordered
from volvex.layout.match import place_of
from volvex.layout.model import (
    Attribute,
    Block,
    ByteOrder,
    Condition,
    Field,
    Layout,
    Measure,
    Part,
    Raw,
    RecordsOf,
    When,
)
from volvex.layout.order import grows, reading_order
from volvex.layout.read import blocks
from volvex.layout.read.blocks import DEEPEST, Area, BlockRead, Reading, Skipped, measuring_field
from volvex.layout.read.described import own_fields
from volvex.layout.read.groups import read_groups
from volvex.layout.records.block import Records
from volvex.layout.records.numbers import decode_numbers, holds, present
from volvex.layout.transforms import keeps_size, settled_keys, unwrapped
from volvex.layout.volumes import opened_beside, volume_name
from volvex.source import Beside, BytesSource, LazySource, Source, WindowSource

MOST = 2000  # times the file's size: a part that claims to hold more is taken for a bomb


def locate(layout: Layout, source: Source) -> Reading:
    """Find and read a file's blocks; FormatError for the first that cannot be where the layout says."""
    reading = Reading(layout, source, byte_ordered(layout, source))
    layout = reading.layout
    order = reading_order(layout)
    for number, one in enumerate(order):
        if one.when is not None and not _asked(reading, one.when):
            continue
        if isinstance(one, Part):
            if not one.file:
                reading.areas[one.name] = _read_part(reading, _with_keys(reading, one))
        elif not one.within or one.within in reading.areas:
            reading.blocks[one.name] = _without_skipped(_read_block(reading, _reduced(reading, one)))
        within = getattr(one, "within", "")
        if within in reading.areas and not any(getattr(later, "within", "") == within for later in order[number + 1 :]):
            reading.areas[within] = _reached(reading, reading.areas[within])
    _join_rows(reading)
    there = tuple(reading.blocks[block.name].block for block in layout.blocks if block.name in reading.blocks)
    reading.layout = replace(
        layout, blocks=there, parts=tuple(part for part in layout.parts if part.name in reading.areas)
    )
    return reading


def measured(reading: Reading, what: str, part: str) -> int | None:
    """A measurement as a field holds it, or as the layout says what it reads as; None when neither is there."""
    found = blocks.measured(reading, what, part)
    if found is not None or not reading.layout.told:
        return found
    from volvex.layout.read.computed import told_measure  # few layouts have expressions

    return told_measure(reading, what, part)


def _join_rows(reading: Reading) -> None:
    """Rows that go on with the records of another block become one with it."""
    for first in reading.layout.blocks:
        names = [
            block.name for block in reading.layout.blocks if block.like == first.name and block.name in reading.blocks
        ]
        if not names or first.name not in reading.blocks:
            continue
        rows = [reading.blocks[first.name], *(reading.blocks.pop(name) for name in names)]
        counts = [len(row.starts) for row in rows]
        reading.blocks[first.name] = replace(
            rows[0],
            start=min(row.start for row in rows),
            data=b"".join(row.data for row in rows),
            columns={name: joined([row.columns[name] for row in rows]) for name in rows[0].columns},
            starts=np.concatenate([row.starts for row in rows]),
            owners=np.repeat(np.arange(len(rows)), counts),
            regions=np.array([(row.start, len(row.data)) for row in rows], np.int64),
            rows=tuple(row.block for row in rows),
        )


def read_beside(reading: Reading, beside: Beside | None) -> dict[str, BlockRead]:
    """The blocks that lie in files beside this one; FormatError when one of these is missing.

    They take no part in writing: they are not among the blocks of the reading.
    """
    whole, found = reading.original, dict[str, BlockRead]()
    for part in whole.parts:
        if not part.file or (part.when is not None and not _asked(reading, part.when)):
            continue
        name = volume_name(part.file, reading.source.name, 0)
        with opened_beside(reading.source.name, name, beside) as source:
            data = b"".join(source.chunks(0, source.size))
            held = _held(part, data, source.name) if part.transforms else data
        own = Reading(whole, BytesSource(data, source.name), reading.layout, dict(reading.blocks))
        own.areas[part.name] = Area(part, 0, len(data), BytesSource(held, source.name))
        for block in reading_order(replace(whole, parts=(*reading.layout.parts, part))):
            if isinstance(block, Block) and block.within == part.name:
                own.blocks[block.name] = found[block.name] = _read_block(own, _reduced(own, block))
    return found


def _held(part: Part, data: bytes, name: str) -> bytes:
    try:
        return b"".join(unwrapped(part, [data], None))
    except ContentError as error:
        raise FormatError(name, f"{part.name} cannot be opened: {error.message}", hint=FRESH) from error


def byte_ordered(layout: Layout, source: Source) -> Layout:
    """The layout with the order of bytes that the file itself tells, where it tells one."""
    for block in layout.blocks:
        offset = 0
        for field in block.fields:
            if isinstance(field.meaning, ByteOrder) and block.at is not None and isinstance(field.type, Raw):
                start = place_of(source, block.at, block.name) + offset
                found = source.read(start, field.type.size)
                for key, word in field.meaning.table:
                    if key == found:
                        return ordered(layout, word == "big")
                known = " or ".join(repr(key)[1:] for key, _ in field.meaning.table)
                raise FormatError(
                    source.name,
                    f"{found!r}, expected {known}",
                    offset=start,
                    field=f"{block.name}.{field.name}",
                    hint="adding it to the table of byte orders",
                )
            offset += field.type.fixed_size or 0
    return layout


def _reduced(reading: Reading, block: Block) -> Block:
    """A block without the fields that this file has not."""
    own = {field.name for field in block.fields}

    def ask(test: Condition) -> bool | None:
        return None if test.field in own else _holds(reading, test)

    fields = []
    for field in own_fields(reading, block):
        when = None if field.when is None else settled_condition(field.when, ask)
        if when is not False:
            fields.append(field if when is field.when else replace(field, when=None if when is True else when))
    return replace(block, fields=tuple(fields))


def _asked(reading: Reading, when: When) -> bool:
    """Whether a condition on fields of single records holds."""
    holds_now: bool = when.asked(lambda test: _holds(reading, test))
    return holds_now


def _holds(reading: Reading, when: Condition) -> bool:
    name, _, rest = when.field.partition(".")
    block = reading.blocks.get(name)
    if block is None or rest not in block.columns:
        return False
    return bool(holds(when, block.columns[rest])[0])


def _with_keys(reading: Reading, part: Part) -> Part:
    """A part with its keys, where these are made of what the file holds."""
    if not any(transform.derived for transform in part.transforms):
        return part
    from volvex.layout.read.scope import ReadScope  # few layouts have expressions

    return settled_keys(part, lambda expression: value_of(expression, ReadScope(reading)))


def _read_part(reading: Reading, part: Part) -> Area:
    source = reading.source
    start = _start(reading, part)
    size, stored = measured(reading, "length", part.name), measured(reading, "stored length", part.name)
    if part.cut is not None:
        return _read_chunks(reading, part, start, size)
    end = measured(reading, "end", part.name)
    if part.reach is not None:
        end = source.size - (part.reach.back if part.reach.to == "end" else 0)
    if stored is None:
        stored = size if end is None else end - start
    assert stored is not None  # the check sees to that
    if size is None and all(keeps_size(transform) for transform in part.transforms):
        size = stored
    if start + stored > source.size:
        raise FormatError(
            source.name,
            f"{part.name} would reach past the end of the file at {source.size:#x}",
            offset=start,
            hint=FRESH,
            asked=_question(reading, "stored length", part.name),
        )
    view = decrypted_view(part, source, start, stored)
    if view is not None and size == stored:
        return Area(part, start, stored, view)
    name = f"{source.name}, {part.name}"

    def held() -> Iterator[bytes]:
        try:
            yield from unwrapped(part, source.chunks(start, stored), size)
        except ContentError as error:
            raise FormatError(
                source.name,
                f"{part.name} cannot be opened: {error.message}",
                offset=start,
                hint=FRESH,
                asked="the layout: is it wrapped in another way?",
            ) from error

    if size is None:
        return Area(part, start, stored, BytesSource(b"".join(held()), name))
    if size > source.size * MOST:
        raise FormatError(
            source.name,
            f"{size} bytes in {part.name}, which is stored in {stored}",
            offset=start,
            hint=FRESH,
            asked="another layout",
        )
    return Area(part, start, stored, LazySource(name, size, held))


def _read_chunks(reading: Reading, part: Part, start: int, size: int | None) -> Area:
    chunks = chunks_of(reading, part, start)
    stored = sum(chunk.stored for chunk in chunks)
    if start + stored > reading.source.size or any(chunk.stored < 0 for chunk in chunks):
        raise FormatError(
            reading.source.name,
            f"the chunks of {part.name} would reach past the end of the file at {reading.source.size:#x}",
            offset=start,
            hint=FRESH,
            asked="the layout: are the stored sizes of chunks of another width, or in other units?",
        )
    return Area(part, start, stored, ChunkedSource(reading, part, start, chunks, size))


def _reached(reading: Reading, area: Area) -> Area:
    """A part of which all blocks were read; one that is as long as its records ends there."""
    if area.part.reach is None or area.part.reach.to != "records":
        return area
    size = max((block.end for block in reading.blocks.values() if block.block.within == area.part.name), default=0)
    return replace(area, stored=size, source=WindowSource(area.source, 0, size, area.source.name))


def _read_block(reading: Reading, block: Block) -> BlockRead:
    holder = next(
        (
            home
            for home in reading.blocks.values()
            for field in home.block.fields
            if isinstance(field.meaning, RecordsOf) and field.meaning.block == block.name
        ),
        None,
    )
    if holder is not None:
        return _read_held(reading, holder, block)
    if (grouped := read_groups(reading, block)) is not None:
        return grouped
    source, start = reading.area(block.within), _start(reading, block)
    count = measured(reading, "count", block.name) if block.repeats else 1
    if block.along:
        count = len(reading.blocks[block.along].starts)
    length = measured(reading, "length", block.name)
    end = measured(reading, "end", block.name)
    if length is None and end is not None:
        length = end - start
    records = Records(block)
    if block.inline:
        stored = _stored_field(block)
        row = source
        if count is None and length is not None:
            row = WindowSource(source, 0, min(source.size, start + max(0, length)), source.name)
        if count == 0:  # nothing is padded where no record follows
            start = min(start, source.size)
        inline = records.read_inline(row, start, count, stored, reading.layout.content.align)
        return BlockRead(records, source, start, b"", inline.columns, inline.starts, inline.ends, inline.end)
    asked = _question(reading, "start", block.name)
    if count is None and length is None and grows(block):
        return _read_growing(reading, records, source, start)
    found = records.read(source, start, count, length, asked)
    return BlockRead(records, source, start, found.data, found.columns, found.starts)


def _without_skipped(block: BlockRead) -> BlockRead:
    """A block without the records that are no entries."""
    if block.block.skip is None or not len(block.starts):
        return block
    mask = present(block.block.fields, block.block.skip, block.columns)
    ends = np.append(block.starts, block.end)[1:] - block.start
    behind = np.cumsum(~mask) - 1
    found = [
        Skipped(
            int(block.starts[row]),
            block.data[int(block.starts[row]) - block.start : int(ends[row])],
            int(behind[row]),
            {name: taken(column, np.array([row])) for name, column in block.columns.items()},
        )
        for row in np.flatnonzero(mask).tolist()
    ]
    rows = np.flatnonzero(~mask)
    columns = {name: taken(column, rows) for name, column in block.columns.items()}
    return replace(block, columns=columns, starts=block.starts[rows], skipped=tuple(found))


def _read_growing(reading: Reading, records: Records, source: Source, start: int) -> BlockRead:
    """Records that say how many follow below them: the first, then as many as they tell, until all are there."""
    told = next(
        field
        for field in records.block.fields
        if isinstance(field.meaning, Attribute) and field.meaning.what == attributes.FOLDERS
    )
    parts, missing, at, had = [], 1, start, 0
    while missing:
        found = records.read(source, at, missing, None)
        parts.append(found)
        had, at = had + missing, at + len(found.data)
        column = found.columns[told.name]
        assert not isinstance(column, Texts)
        more = decode_numbers(column, reading.settled(told), source, found.starts)
        if (more < 0).any() or len(parts) > DEEPEST:
            raise FormatError(
                source.name,
                f"folders nested more than {DEEPEST} deep, or less than 0",
                offset=at,
                field=f"{records.block.name}[{had - 1}].{told.name}",
            )
        missing = int(more.sum())
    columns = {name: joined([part.columns[name] for part in parts]) for name in parts[0].columns}
    starts = np.concatenate([part.starts for part in parts])
    return BlockRead(records, source, start, b"".join(part.data for part in parts), columns, starts)


def _read_held(reading: Reading, holder: BlockRead, block: Block) -> BlockRead:
    """Records that lie within those of another block."""
    one = next(
        field
        for field in holder.block.fields
        if isinstance(field.meaning, RecordsOf) and field.meaning.block == block.name
    )
    told = next(field for field in holder.block.fields if field.meaning == Measure("count", block.name))
    regions, counts = holder.columns[one.name], reading.decode_numbers(holder, told)
    assert isinstance(regions, Texts)
    records = Records(block)
    data = b"".join(regions.raws())
    found = records.read(BytesSource(data, holder.source.name), 0, int(counts.sum()), len(data))
    owners = np.repeat(np.arange(len(counts)), counts)
    before = np.cumsum(regions.lengths) - regions.lengths  # where each region starts in the data
    places = np.array([holder.offset(row, one.name) for row in range(len(counts))], np.int64)
    starts = found.starts - before[owners] + places[owners] if len(owners) else found.starts
    first = int(places[0]) if len(places) else holder.start
    return BlockRead(records, holder.source, first, data, found.columns, starts, owners=owners)


def _stored_field(block: Block) -> Field:
    """The field that says how many bytes of content follow a record."""
    record = {field.meaning.what: field for field in block.fields if isinstance(field.meaning, Attribute)}
    return record[attributes.STORED if attributes.STORED in record else attributes.SIZE]


def _start(reading: Reading, block: Block | Part) -> int:
    if block.at is None:
        start = measured(reading, "start", block.name)
        if start is None:
            raise FormatError(
                reading.source.name,
                f"no field gives the start of {block.name} in this file",
                hint=f"`when` behind `block {block.name}`, as behind the field with its start",
            )
        return start
    source = reading.area(block.within) if isinstance(block, Block) else reading.source
    if block.at.after:
        end = reading.edge("end", block.at.after)
        return end + -end % block.align
    return place_of(source, block.at, block.name)


def _question(reading: Reading, what: str, part: str) -> str:
    """A question to the layout's author about the field that led to a wrong place."""
    found = measuring_field(reading, what, part)
    if found is None:
        return "another layout, or a fresh copy of the file: it may be cut off"
    return f"the layout: is `{found[1].name}` counted in sectors, from another place, or in the other order of bytes?"
