"""What stands around the content of each entry: a record in front of it, and one behind.

Both store once more what the directory stores (sizes, the name, a checksum). They are a part of the entry's stored
bytes, as a cipher's filling is: reading takes them off and compares them, writing makes them from the entry as it is
then.
"""

from __future__ import annotations

import functools
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from volvex.errors import FRESH, FormatError
from volvex.layout.columns import Array, Columns, Texts
from volvex.layout.expression import FactOf, Value, numbers, sums_over_content, value_of, walk
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Block, Computed, Constant, Field, IntegerType, Layout, Raw
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.read.scope import true_values
from volvex.layout.records.blank import blank_columns
from volvex.layout.records.block import Records
from volvex.layout.records.numbers import encode_numbers
from volvex.source import BytesSource

MOST = 1 << 16  # bytes of a record around content

Sums = Mapping[tuple[str, str], int]  # checksums over content, by algorithm and part


@functools.lru_cache(64)
def frame_block(layout: Layout, name: str) -> Block:
    """The record around content as a block of which there is one for each entry."""
    record = layout.record(name)
    assert record is not None  # the check sees to that
    return Block(name, None, True, None, None, None, 1, 0, record.fields, record.place)


def frame_blocks(layout: Layout) -> list[Block]:
    """The records in front of and behind content."""
    return [frame_block(layout, name) for name in (layout.content.head, layout.content.tail) if name]


def fixed_size(block: Block) -> int | None:
    """The bytes of such a record, where all have as many."""
    records = Records(block)
    return records.least if records.fixed else None


def frame_sizes(reading: Reading, starts: Array) -> Array:
    """The bytes around each content, of which the record in front starts where the entry does."""
    layout, found = reading.layout, np.zeros(len(starts), np.int64)
    for block, in_front in ((layout.content.head, True), (layout.content.tail, False)):
        if not block:
            continue
        own = frame_block(layout, block)
        size = fixed_size(own)
        if size is not None:
            found += size
        elif in_front:
            found += np.array([_size_at(reading, own, int(start)) for start in starts.tolist()], np.int64)
    return found


def _size_at(reading: Reading, block: Block, start: int) -> int:
    return len(_read(reading, block, start).data)


def _read(reading: Reading, block: Block, start: int) -> Any:
    source = reading.content_source
    data = source.peek(start, min(MOST, max(0, source.size - start)))
    try:
        return Records(block).read(BytesSource(data, source.name), 0, 1, None)
    except FormatError as error:
        raise FormatError(
            source.name,
            f"{block.name} in front of content: {error.problem}",
            offset=start + (error.offset or 0),
            field=error.field,
            hint=FRESH,
        ) from error


@dataclass
class Around:
    """The bytes in front of and behind one content, as a cipher that adds and takes them off."""

    head: bytes
    tail: bytes
    unit: int = 1
    pads: bool = False

    def decrypt(self) -> _Off:
        return _Off(len(self.head), len(self.tail))

    def encrypt(self) -> _On:
        return _On(self.head, self.tail)


class _Off:
    def __init__(self, head: int, tail: int) -> None:
        self._head, self._tail, self._held = head, tail, b""

    def update(self, data: bytes) -> bytes:
        skipped = min(self._head, len(data))
        self._head -= skipped
        held = self._held + data[skipped:]
        cut = max(0, len(held) - self._tail)
        self._held = held[cut:]
        return held[:cut]

    def finish(self) -> bytes:
        return b""


class _On:
    def __init__(self, head: bytes, tail: bytes) -> None:
        self._head, self._tail = head, tail

    def update(self, data: bytes) -> bytes:
        head, self._head = self._head, b""
        return head + data

    def finish(self) -> bytes:
        return self._head + self._tail


class FrameScope:
    """What the fields of such a record see: each other, the entry's facts and name, its record, single blocks."""

    def __init__(self, outer: Any, columns: Columns, block: Block, sums: Sums | None) -> None:
        self._outer, self._columns, self._block, self._sums = outer, columns, block, sums

    def is_column(self, expression: object) -> bool:
        return False

    def field(self, name: str) -> Value:
        field = self._block.field(name)
        return true_values(self._columns[name], field)[0] if field is not None else self._outer.field(name)

    def measure(self, what: str, part: str) -> int:
        number: int = self._outer.measure(what, part)
        return number

    def fact(self, what: str) -> Any:
        return self._outer.fact(what)

    def names(self) -> tuple[list[bytes], str]:
        names: tuple[list[bytes], str] = self._outer.names()
        return names

    def bytes_of(self, part: str) -> bytes:
        raise AssertionError(part)  # the check sees to that

    def sum_of(self, algorithm: str, data: bytes) -> int:
        number: int = self._outer.sum_of(algorithm, data)
        return number

    def content_sum(self, algorithm: str, part: str) -> Array:
        assert self._sums is not None
        return numbers([self._sums[algorithm, part]])


def frame_values(block: Block, columns: Columns, outer: Any, sums: Sums | None) -> dict[str, Any]:
    """What the fields that are expressions should hold, by name; without checksums over content where these are not
    known."""
    found, made = dict[str, Any](), dict(columns)
    for field in block.fields:
        if not isinstance(field.meaning, Computed) or (sums is None and sums_over_content(field.meaning.value)):
            continue
        value = value_of(field.meaning.value, FrameScope(outer, made, block, sums))
        found[field.name] = value[0] if isinstance(value, list | np.ndarray) else value
        made[field.name] = stored_column(field, found[field.name], made[field.name])
    return found


def stored_column(field: Field, value: Any, column: Any) -> Any:
    """A column of one record that holds a value."""
    if isinstance(column, Texts):
        return Texts.of([value], column.encoding)
    if isinstance(field.type, IntegerType):
        return encode_numbers(np.array([value], object), field, field.name)
    raw = value if isinstance(value, bytes) else value.to_bytes(field.type.fixed_size or 0, "big")
    return np.frombuffer(raw, f"V{field.type.fixed_size}")


def around_of(reading: Reading, row: int, outer: Any) -> Around:
    """What stands around an entry's content as it was read; FormatError when it is not what the entry says."""
    of = reading.entries
    assert of is not None
    start, end = int(of.start[row]), int(of.start[row] + of.stored[row])
    parts = []
    for name, in_front in ((reading.layout.content.head, True), (reading.layout.content.tail, False)):
        if not name:
            parts.append(b"")
            continue
        block = frame_block(reading.layout, name)
        at = start if in_front else end - (fixed_size(block) or 0)
        found = _read(reading, block, at)
        _compare(reading, block, found, at, outer)
        parts.append(found.data)
    return Around(parts[0], parts[1])


def read_columns(reading: Reading, row: int, name: str) -> Columns:
    """The fields of the record around an entry's content, in front of it or behind."""
    of = reading.entries
    assert of is not None
    block = frame_block(reading.layout, name)
    in_front = name == reading.layout.content.head
    at = int(of.start[row]) if in_front else int(of.start[row] + of.stored[row]) - (fixed_size(block) or 0)
    columns: Columns = _read(reading, block, at).columns
    return columns


def _compare(reading: Reading, block: Block, found: Any, at: int, outer: Any) -> None:
    """FormatError for the first field that is not what the entry says."""
    wanted = frame_values(block, found.columns, outer, None)
    wanted |= {field.name: field.meaning.value for field in block.fields if isinstance(field.meaning, Constant)}
    for field in block.fields:
        if field.name in wanted:
            expect_value(reading, block, field, found.columns, wanted[field.name], at)


def expect_value(reading: Reading, block: Block, field: Field, columns: Columns, value: Any, at: int) -> None:
    """FormatError when a field around content does not hold a value."""
    column = columns[field.name]
    bare = replace(field, changes=()) if isinstance(field.meaning, Constant) else field
    right = stored_column(bare, value, column)
    if isinstance(column, Texts):
        same, held = column.raws() == right.raws(), repr(column.raw(0))[1:]
    elif isinstance(field.type, Raw):
        same, held = column.tobytes() == right.tobytes(), column[0].tobytes().hex(" ")
    else:
        same, held = int(column[0]) == int(right[0]), f"{int(column[0]):,}"
    if not same:
        said = f"`{field.words}` gives " if isinstance(field.meaning, Computed) else "the layout has "
        shown = value.hex(" ") if isinstance(value, bytes) else f"{value:,}"
        raise FormatError(
            reading.source.name,
            f"{held}, but {said}{shown}",
            offset=at,
            field=f"{block.name}.{field.name}",
            hint="a fresh copy of the file, or another layout",
        )


def content_sum_fields(layout: Layout) -> list[tuple[Block, Field]]:
    """The fields around content that are made of checksums over it."""
    return [
        (block, field)
        for block in frame_blocks(layout)
        for field in block.fields
        if isinstance(field.meaning, Computed) and sums_over_content(field.meaning.value)
    ]


def facts_asked(layout: Layout) -> set[str]:
    """The facts of an entry that the records around content hold, which change when it lies elsewhere."""
    return {
        one.what
        for block in frame_blocks(layout)
        for field in block.fields
        if isinstance(field.meaning, Computed)
        for one in walk(field.meaning.value)
        if isinstance(one, FactOf) and one.what in (attributes.START, attributes.END, attributes.OWN_NUMBER)
    }


def new_around(reading: Reading, like: int, outer: Any, sums: Sums | None) -> Around:
    """What stands around new content, or (without `sums`) around old one that lies elsewhere now.

    What nobody knows is as around the content of the entry `like`, a row, or blank.
    """
    parts = []
    for name in (reading.layout.content.head, reading.layout.content.tail):
        if not name:
            parts.append(b"")
            continue
        block = frame_block(reading.layout, name)
        known = reading.entries is not None and 0 <= like < len(reading.entries) - reading.blanks
        columns = read_columns(reading, like, name) if known else blank_columns(block)
        for field, value in frame_values(block, columns, outer, sums).items():
            own = block.field(field)
            assert own is not None
            columns[field] = stored_column(own, value, columns[field])
        parts.append(Records(block).write(columns))
    return Around(parts[0], parts[1])


def around_blocks(reading: Reading, row: int) -> list[tuple[BlockRead, bool]]:
    """The records around an entry's content as blocks of one record, to be looked at; and which stands in front."""
    of, layout, found = reading.entries, reading.layout, list[tuple[BlockRead, bool]]()
    assert of is not None
    for name, in_front in ((layout.content.head, True), (layout.content.tail, False)):
        if name:
            block = replace(
                frame_block(layout, name), name=f"{name}[{row}]", repeats=False, within=layout.content.within
            )
            end = int(of.start[row] + of.stored[row])
            at = int(of.start[row]) if in_front else end - (fixed_size(block) or 0)
            own, source = _read(reading, block, at), reading.content_source
            found.append((BlockRead(Records(block), source, at, own.data, own.columns, np.array([at])), in_front))
    return found
