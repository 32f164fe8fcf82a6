"""Measures: numbers that are `kept` (or constant), and are always equal to a count, a size or a place of the file."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from volvex.layout.chunks import ChunkedSource
from volvex.layout.columns import Array, Texts
from volvex.layout.inspect.hints._hint import Hint
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import CONTENTS, Constant, Field, IntegerType, Opaque
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.read.names import own_names
from volvex.layout.read.own_numbers import own_numbers, record_sizes

LEAST_COUNT, LEAST = 8, 24  # smaller numbers are equal by chance
RECORDS = 3  # different values that a column must have


def hints(reading: Reading) -> Iterator[Hint]:
    for block in reading.blocks.values():
        for field in block.block.fields:
            if (
                isinstance(field.type, IntegerType)
                and isinstance(field.meaning, Opaque | Constant)
                and field.when is None
            ):
                numbers = block.columns[field.name]
                if isinstance(numbers, Texts) or numbers.dtype.kind not in "iu":
                    continue
                hint = (
                    _column(reading, block, field, numbers)
                    if block.block.repeats
                    else _single(reading, block, field, numbers)
                )
                if hint is not None:
                    yield hint


def _single(reading: Reading, block: BlockRead, field: Field, numbers: Array) -> Hint | None:
    if not len(numbers):
        return None
    value, least = int(numbers[0]), LEAST
    for meaning, measure in _measures(reading, block):
        least = LEAST_COUNT if meaning.startswith("count") else LEAST
        if value >= least and value == measure:
            where = f"{block.block.name}.{field.name}"
            return Hint(where, f"{where} is {value:,}, as is the {meaning}", f"{field.name}  {field.shape}  {meaning}")
    return None


def _measures(reading: Reading, own: BlockRead) -> Iterator[tuple[str, int]]:
    """What can be measured, as a layout says it, and how much it is."""
    yield "length of file", reading.source.size
    within = own.block.within
    for name, block in reading.blocks.items():
        if block is own:
            continue
        if block.block.repeats:
            yield f"count of {name}", len(block.starts) + len(block.skipped)
        if block.ends is not None:
            continue
        if block.block.within == within:
            yield f"start of {name}", block.start
            yield f"end of {name}", block.end
        yield f"length of {name}", len(block.data)
    for name, area in reading.areas.items():
        yield f"start of {name}", area.start
        yield f"end of {name}", area.start + area.stored
        yield f"stored length of {name}", area.stored
        yield f"length of {name}", area.source.size
    entries = reading.entries
    if entries is not None and len(entries) and int(entries.stored.max()) and not reading.volumes:
        there = entries.stored > 0
        first, last = int(entries.start[there].min()), int((entries.start + entries.stored)[there].max())
        yield f"start of {CONTENTS}", first
        yield f"length of {CONTENTS}", last - first


def _column(reading: Reading, block: BlockRead, field: Field, numbers: Array) -> Hint | None:
    if len(np.unique(numbers)) < RECORDS:
        return None
    for meaning, wanted in _columns(reading, block, numbers):
        if len(wanted) == len(numbers) and np.array_equal(numbers.astype(np.int64), wanted):
            where = f"{block.block.name}.{field.name}"
            return Hint(
                where,
                f"{where} is the {meaning} in all {len(numbers):,} records",
                f"{field.name}  {field.shape}  {meaning}",
            )
    return None


def _columns(reading: Reading, block: BlockRead, numbers: Array) -> Iterator[tuple[str, Array]]:
    """What is known of each record, as a column."""
    entries, count = reading.entries, len(block.starts)
    for area in reading.areas.values():
        if isinstance(area.source, ChunkedSource) and len(area.source.chunk_list) == count:
            places = [area.source.stored_at(number) for number in range(count)]
            yield "start of chunk", np.array([start for start, _ in places], np.int64)
            yield "size of chunk", np.array([area.source.held(number) for number in range(count)], np.int64)
    if block.owners is None and block.block.skip is None and count:
        starts, sizes = block.starts.astype(np.int64), record_sizes(block)
        for what in attributes.OWN:
            yield what, own_numbers(what, starts, sizes, int(numbers[-1]))
    yield "number of record, from 1", np.arange(1, count + 1)
    if entries is None or len(entries) != count:
        return
    yield "stored size of content", entries.stored
    yield "size of content", entries.size
    yield "start of content", entries.start
    yield "end of content", entries.start + entries.stored
    yield "start of the next content", np.append(entries.start[1:], -1)
    names = own_names(reading)
    if names is not None and len(names) == count:
        lengths = names.lengths.astype(np.int64)
        yield "length of name", lengths
        yield "length of name with its zero", lengths + 1
    for size in (16, 32, 64, 512, 2048, 4096):
        yield f"stored size of content, rounded up to {size}", entries.stored + -entries.stored % size
        yield f"number of units of {size} bytes of content", (entries.stored + size - 1) // size
