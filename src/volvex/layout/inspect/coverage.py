"""Which field covers which bytes of a file, and which bytes no field explains."""

from __future__ import annotations

import heapq
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from volvex.errors import FormatError
from volvex.layout.columns import Texts
from volvex.layout.inspect.stretch import Stretch
from volvex.layout.inspect.values import value_of, value_text
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import (
    Bits,
    Field,
    InlineBytes,
    Opaque,
    Record,
    RecordsOf,
    Text,
)
from volvex.layout.read.blocks import Area, BlockRead, Reading
from volvex.layout.read.entries import placing_of
from volvex.layout.read.frames import around_blocks
from volvex.layout.read.groups import group_rows
from volvex.layout.read.names import endings_of
from volvex.layout.types.nested import decode_fields
from volvex.layout.types.text import is_whole
from volvex.source import Source

SHOWN = 10  # bytes shown of what no field explains


@dataclass(frozen=True)
class Piece:
    """A block, a wrapped part or a content in the order of its source."""

    start: int
    size: int
    align: int
    fill: int
    block: BlockRead | None
    row: int  # the entry, when it is content, or the record of one that content follows
    area: Area | None = None
    rows: tuple[int, int] | None = None  # of a group of records: the first, and the one behind the last


def pieces(reading: Reading, within: str = "") -> Iterator[Piece]:
    """What lies in the file, or in a wrapped part, in its order; bytes that entries share come once. What lies in
    volumes does not."""
    waiting = [
        Piece(block_read.start, len(block_read.data), block_read.block.align, block_read.block.fill, block_read, -1)
        for block_read in reading.blocks.values()
        if block_read.ends is None and block_read.owners is None and block_read.block.within == within
    ]
    if not within:
        waiting += [
            Piece(area.start, area.stored, area.part.align, area.part.fill, None, -1, area)
            for area in reading.areas.values()
        ]
    for block_read in reading.blocks.values():
        if block_read.regions is not None and block_read.block.within == within:
            waiting += [
                Piece(start, size, own.align, own.fill, block_read, -1, None, (first, last))
                for start, size, first, last, own in group_rows(block_read)
            ]
    waiting.sort(key=lambda piece: piece.start)
    inline = [block for block in reading.blocks.values() if block.ends is not None and block.block.within == within]
    here = reading.layout.content.within == within and not reading.volumes
    contents = content_pieces(reading) if here else iter(())
    yield from heapq.merge(
        waiting, *map(_records, inline), contents, key=lambda piece: (piece.start, piece.start + piece.size)
    )


def _records(block: BlockRead) -> Iterator[Piece]:
    assert block.ends is not None
    for row, (start, end) in enumerate(zip(block.starts.tolist(), block.ends.tolist(), strict=True)):
        yield Piece(start, end - start, block.block.align, block.block.fill, block, row)


def content_pieces(reading: Reading) -> Iterator[Piece]:
    """The contents of all entries in the order in which they lie in their source; those that share bytes come once."""
    assert reading.entries is not None
    entries = reading.entries
    align, fill = placing_of(reading)
    # an empty one has a place too, with padding before it, unless it is a mere number
    rows = np.flatnonzero((entries.stored > 0) | ((entries.start > 0) & (entries.start % align == 0)))
    rows = rows[np.lexsort((-entries.stored[rows], entries.start[rows]))]
    _, first = np.unique(entries.start[rows], return_index=True)
    for row in rows[first].tolist():
        yield Piece(int(entries.start[row]), int(entries.stored[row]), int(align[row]), int(fill[row]), None, row)


def stretches(reading: Reading, limit: int | None = None, within: str = "") -> Iterator[Stretch]:
    """All of a file, or of what a part holds, from start to end; of a repeating block at most `limit` records by field.

    Behind the stretch of a wrapped part come those of what it holds.
    """
    position, source = 0, reading.area(within)
    for piece in pieces(reading, within):
        if piece.start > position:
            yield _between(source, position, piece, within)
        position = max(position, piece.start + piece.size)
        if piece.area is not None:
            yield _part(piece.area)
            yield from stretches(reading, limit, piece.area.part.name)
        elif piece.block is None and not piece.size:
            continue
        elif piece.block is None:
            if limit is None or piece.row < limit:
                yield from _with_around(reading, piece, within)
            else:
                yield _content(reading, piece, within)
            if limit is None or piece.row < limit:
                yield from object_stretches(reading, piece, within)
        elif piece.block.block.transforms:
            yield _wrapped_group(piece, within)
        elif piece.row >= 0:
            yield from _record(reading, piece, limit)
        else:
            yield from _block(reading, piece.block, limit, piece)
    if position < source.size:
        behind = Piece(source.size, 0, *(reading.layout.end if not within else (1, 0)), None, -1)
        yield _between(source, position, behind, within)


def _part(area: Area) -> Stretch:
    how = ", ".join(transform.name for transform in area.part.transforms)
    return Stretch(
        area.start, area.stored, "part", area.part.name, meaning=f"wrapped in {how}; it holds {area.source.size} bytes"
    )


def _wrapped_group(piece: Piece, within: str) -> Stretch:
    assert piece.block is not None and piece.rows is not None
    how = ", ".join(transform.name for transform in piece.block.block.transforms)
    meaning = f"wrapped in {how}; it holds {piece.rows[1] - piece.rows[0]} records"
    return Stretch(piece.start, piece.size, "field", piece.block.block.name, meaning=meaning, within=within)


def _between(source: Source, start: int, piece: Piece, within: str) -> Stretch:
    size = piece.start - start
    # as in writing: what the layout would put there itself is padding, all else is nobody's
    if size < piece.align and source.read(start, size) == bytes([piece.fill]) * size:
        return Stretch(
            start, size, "padding", "padding", meaning=f"align {piece.align} fill {piece.fill:02x}", within=within
        )
    return _unexplained(source, start, piece.start, within)


def _unexplained(source: Source, start: int, end: int, within: str) -> Stretch:
    head = source.read(start, min(SHOWN, end - start))
    value = head.hex(" ") + (" ..." if end - start > SHOWN else "")
    return Stretch(start, end - start, "unexplained", "unexplained", value=value, within=within)


def _content(reading: Reading, piece: Piece, within: str) -> Stretch:
    assert reading.entries is not None
    codec = int(reading.entries.codec[piece.row])
    how = reading.entries.codecs[codec] if codec >= 0 else "?"
    name = reading.entries.names.raw(piece.row).decode(reading.entries.names.encoding, "backslashreplace")
    transforms = [transform.name for transform in reading.layout.content.transforms]
    how = ", ".join([*transforms, *([how] if how != "none" or not transforms else [])])
    return Stretch(
        piece.start,
        piece.size,
        "content",
        name,
        meaning=f"content of {reading.home.block.name}[{piece.row}], {how}",
        within=within,
    )


def _with_around(reading: Reading, piece: Piece, within: str) -> Iterator[Stretch]:
    """An entry's stored bytes: the fields of the records around its content, and the content."""
    around = [] if reading.entries is None or reading.entries.framed is None else around_blocks(reading, piece.row)
    start, size = piece.start, piece.size
    for block, in_front in around:
        size -= len(block.data)
        if in_front:
            yield from _fields(reading, block, 0, None)
            start += len(block.data)
    yield _content(reading, replace(piece, start=start, size=size), within)
    for block, in_front in around:
        if not in_front:
            yield from _fields(reading, block, 0, None)


def object_record(reading: Reading, row: int) -> Record | None:
    """The record that describes an entry's content: that which is called as its type is."""
    kinds = endings_of(reading) if reading.layout.records and reading.attribute(attributes.TYPE) else None
    return next((record for record in reading.layout.records if kinds and record.name.lower() == kinds[row]), None)


def object_stretches(reading: Reading, piece: Piece, within: str, strict: bool = False) -> Iterator[Stretch]:
    """The fields of content that is an object, where it lies bare. One that is not as its record says is told so;
    with `strict` it is FormatError."""
    assert reading.entries is not None
    record = object_record(reading, piece.row)
    codec = int(reading.entries.codec[piece.row])
    if record is None or codec < 0 or reading.entries.codecs[codec] != "none" or reading.layout.content.transforms:
        return
    data = reading.area(within).read(piece.start, piece.size)
    try:
        yield from _object_fields(record, data, piece, within)
    except FormatError as error:
        if strict:
            raise
        yield Stretch(
            piece.start, piece.size, "inside", record.name, "", f"differs from its record: {error.problem}", "", within
        )


def _object_fields(record: Record, data: bytes, piece: Piece, within: str) -> Iterator[Stretch]:
    values: dict[str, Any] = {}
    end = 0
    for field, start, end in decode_fields(record.fields, data, 0, values):
        value, words = values[field.name], dict(getattr(field.meaning, "table", ()))
        shown = f"{value} {words.get(value, '?')}" if words else value_text(value)
        where = f"{record.name}.{field.name}"
        yield Stretch(piece.start + start, end - start, "inside", where, field.shape, shown, field.words, within)
    if end != len(data):
        raise FormatError("a record", f"{len(data) - end} bytes follow its last field", offset=end)


def _record(reading: Reading, piece: Piece, limit: int | None) -> Iterator[Stretch]:
    """One record of those that are followed by their content."""
    block = piece.block
    assert block is not None
    if limit is not None and piece.row >= limit:
        yield Stretch(
            piece.start,
            piece.size,
            "field",
            f"{block.block.name}[{piece.row}]",
            meaning="a record",
            within=block.block.within,
        )
        return
    yield from _fields(reading, block, piece.row, limit)


def _fields(reading: Reading, block: BlockRead, row: int, limit: int | None) -> Iterator[Stretch]:
    """The fields of one record that are there."""
    for field in block.block.fields:
        if isinstance(field.meaning, RecordsOf):
            inner = reading.blocks[field.meaning.block]
            assert inner.owners is not None
            for held in np.flatnonzero(inner.owners == row).tolist():
                yield from _fields(reading, inner, held, limit)
        elif not isinstance(field.type, InlineBytes) and (field.when is None or bool(block.present(field)[row])):
            yield field_stretch(reading, block, row, field)


def _block(reading: Reading, block: BlockRead, limit: int | None, piece: Piece) -> Iterator[Stretch]:
    first, count = piece.rows or (0, len(block.starts))
    shown = count if limit is None or not block.block.repeats else min(first + limit, count)
    yield from _skipped(block, -1)
    for row in range(first, shown):
        yield from _fields(reading, block, row, limit)
        yield from _skipped(block, row)
    if shown < count:
        start, more = int(block.starts[shown]), count - shown
        rows = f"{shown}..{count - 1}" if more > 1 else str(shown)
        text = f"{more} more record{'s' if more > 1 else ''}"
        yield Stretch(
            start,
            piece.start + piece.size - start,
            "field",
            f"{block.block.name}[{rows}]",
            meaning=text,
            within=block.block.within,
        )


def _skipped(block: BlockRead, behind: int) -> Iterator[Stretch]:
    """The records behind one that are no entries."""
    for record in block.skipped:
        if record.behind == behind:
            yield Stretch(
                record.start,
                len(record.data),
                "field",
                f"{block.block.name}, no entry",
                value=record.data[:10].hex(" "),
                meaning="a record that is no entry: kept",
                within=block.block.within,
            )


def field_stretch(reading: Reading, block: BlockRead, row: int, field: Field) -> Stretch:
    """The bytes of one field of one record, a text with its length or its ending zero."""
    start, kind, column = block.offset(row, field.name), field.type, block.columns[field.name]
    fixed = kind.fixed_size
    if kind.uses == "bits":
        host = next(other for other in block.block.fields if other.name == kind.sibling)
        size = host.type.fixed_size or 0
    elif fixed is not None:
        size = fixed
    elif isinstance(kind, Text) and isinstance(column, Texts) and not is_whole(field):
        extra = kind.prefix.min_size if kind.prefix else 0
        start, size = start - extra, extra + int(column.lengths[row]) + kind.ending
    else:
        size = block.tail_size(row, field)
    what = "bits" if kind.uses == "bits" else "field"
    value = value_of(reading, block, row, field)
    return Stretch(start, size, what, block.where(row, field.name), field.shape, value, field.words, block.block.within)


@dataclass(frozen=True)
class Coverage:
    """How many bytes of a file are what."""

    size: int
    fields: int
    kept: int  # of the fields: those that nobody knows
    content: int
    padding: int
    unexplained: list[Stretch]


def coverage(reading: Reading) -> Coverage:
    """Count the bytes by what covers them, a wrapped part by what it holds as far as its stored bytes go."""
    sums = {"field": 0, "content": 0, "padding": 0, "part": 0, "bits": 0, "inside": 0}
    unexplained = []
    for stretch in stretches(reading, limit=0):
        if stretch.what == "unexplained":
            unexplained.append(stretch)
        elif not stretch.within:
            sums[stretch.what] += stretch.size
    kept = sum(_kept_bytes(block) for block in reading.blocks.values() if not block.block.within)
    for area in reading.areas.values():
        holds_content = reading.layout.content.within == area.part.name
        sums["content" if holds_content else "field"] += area.stored
    return Coverage(reading.source.size, sums["field"], kept, sums["content"], sums["padding"], unexplained)


def _kept_bytes(block: BlockRead) -> int:
    total = 0
    for field in block.block.fields:
        if isinstance(field.meaning, Opaque) and not isinstance(field.type, Bits):
            column = block.columns[field.name]
            total += int(column.lengths.sum()) if isinstance(column, Texts) else column.nbytes
    return total


def covering(reading: Reading, offset: int, within: str = "") -> Stretch:
    """What covers the byte at an offset."""
    for block in reading.blocks.values():
        if block.block.within == within and block.owners is None and block.start <= offset < block.end:
            row = int(np.searchsorted(block.starts, offset, "right")) - 1
            for stretch in _fields(reading, block, row, None) if row >= 0 else ():
                if stretch.what == "field" and stretch.start <= offset < stretch.start + stretch.size:
                    return stretch
    position, source = 0, reading.area(within)
    for piece in pieces(reading, within):
        if position <= offset < piece.start:
            return _between(source, position, piece, within)
        position = max(position, piece.start + piece.size)
        if piece.start <= offset < position:
            if piece.area is not None:
                return _part(piece.area)
            if piece.block is None:
                return _content(reading, piece, within)
            if piece.block.block.transforms:
                return _wrapped_group(piece, within)
            row = int(np.searchsorted(piece.block.starts, offset, "right")) - 1 if piece.rows is None else piece.rows[0]
            while piece.rows is not None and row + 1 < piece.rows[1] and piece.block.starts[row + 1] <= offset:
                row += 1
            for stretch in _fields(reading, piece.block, row, None):
                if stretch.what == "field" and stretch.start <= offset < stretch.start + stretch.size:
                    return stretch
    return Stretch(offset, 1, "unexplained", "the end of the file")
