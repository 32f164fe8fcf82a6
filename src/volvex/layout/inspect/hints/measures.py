"""Measures: numbers that are `kept` (or constant), and are always equal to a count, a size or a place of the file."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from volvex.layout.chunks import ChunkedSource
from volvex.layout.columns import Array, Texts
from volvex.layout.expression import NameOf
from volvex.layout.inspect.equal import LEAST, LEAST_COUNT, UNITS, Equal, equals
from volvex.layout.inspect.hints._hint import Hint
from volvex.layout.inspect.measured import measures, paths_in
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Constant, Field, IntegerType, Opaque, Text
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.read.names import own_names
from volvex.layout.read.own_numbers import own_numbers, record_sizes

PATHS = 4  # texts that look like paths, in bytes that nobody knows
LOOKED = 1 << 20  # bytes
MANY = 12  # records of which two different values are enough
FURTHEST = 1 << 12  # what a column may be more or less than something that is known
RECORDS = 3  # different values that a column must have


def hints(reading: Reading) -> Iterator[Hint]:
    for block in reading.blocks.values():
        for field in block.block.fields:
            if (
                isinstance(field.type, IntegerType)
                and isinstance(field.meaning, Opaque | Constant)
                and (field.when is None or block.block.repeats)
            ):
                numbers = block.columns[field.name]
                if isinstance(numbers, Texts) or numbers.dtype.kind not in "iu":
                    continue
                if block.block.repeats:
                    hint = _column(reading, block, field, numbers)
                else:
                    hint = _constant(reading, block, field, numbers)
                if hint is not None:
                    yield hint
    for equal in equals(reading):
        yield _equal(reading, equal)
    yield from _paths(reading)


def _equal(reading: Reading, equal: Equal) -> Hint:
    """A kept number that equals something."""
    field = reading.blocks[equal.block].block.field(equal.field)
    assert field is not None
    words = equal.form.words
    simple = not equal.form.how and not words.startswith(("total", "largest"))
    if isinstance(field.type, IntegerType):
        line = f"{field.name}  {field.shape}  {words if simple else f'is {words}'}"
        return Hint(equal.where, f"{equal.where} is {equal.value:,}, as is the {words}", line)
    order = "" if equal.size < 2 else " big" if equal.big else " little"
    where = f"{equal.where} at {equal.at}" if equal.at else equal.where
    line = f"a field of its own, u{8 * equal.size}{order}  {words if simple else f'is {words}'}"
    return Hint(equal.where, f"{where} holds {equal.value:,}, as is the {words}", line)


def _paths(reading: Reading) -> Iterator[Hint]:
    """Kept bytes in which many paths can be read: most likely the names of what the archive holds."""
    for block in reading.blocks.values():
        for field in block.block.fields:
            if (
                isinstance(field.meaning, Opaque)
                and (raw := _bytes_of(block, field))
                and (texts := paths_in(raw)) >= PATHS
            ):
                where = f"{block.block.name}.{field.name}"
                seen = f"in the {len(raw):,} bytes of {where} there are {texts:,} texts that look like paths"
                yield Hint(where, seen, "a block of texts, with the meaning `names` or `name`")


def _bytes_of(block: BlockRead, field: Field) -> bytes:
    """All bytes of a kept field that is no number and no text, in all records."""
    column = block.columns[field.name]
    if isinstance(field.type, IntegerType | Text):
        return b""
    raw = b"\0".join(column.raws()) if isinstance(column, Texts) else column.tobytes()
    return raw[:LOOKED]


def _constant(reading: Reading, block: BlockRead, field: Field, numbers: Array) -> Hint | None:
    """A number that the layout takes for the same in all files, and that is what can be measured."""
    if not len(numbers) or not isinstance(field.meaning, Constant):
        return None
    value = int(numbers[0])
    for meaning, measure in measures(reading, block):
        least = LEAST_COUNT if meaning.startswith("count") else LEAST
        if value >= least and value == measure:
            where = f"{block.block.name}.{field.name}"
            return Hint(where, f"{where} is {value:,}, as is the {meaning}", f"{field.name}  {field.shape}  {meaning}")
    return None


def _column(reading: Reading, block: BlockRead, field: Field, numbers: Array) -> Hint | None:
    """A column of kept numbers that is known of each record, or differs from that by the same number in all."""
    there = np.flatnonzero(block.present(field))
    if not len(there) or len(np.unique(numbers[there])) < (RECORDS if len(there) < MANY else 2):
        return None
    own, limit = numbers[there].astype(np.int64), 1 << min(62, field.type.value_bits)  # type: ignore[attr-defined]
    when = f"  when {field.when}" if field.when is not None else ""
    where, several = f"{block.block.name}.{field.name}", f"in all {len(there):,} records"
    for meaning, line, wanted in _columns(reading, block, numbers):
        if len(wanted) != len(numbers):
            continue
        difference = own - wanted[there] % limit
        if not difference.any():
            return Hint(where, f"{where} is the {meaning} {several}", f"{field.name}  {field.shape}  {line}{when}")
        if (difference == difference[0]).all() and abs(int(difference[0])) <= FURTHEST and " " in line:
            more = int(difference[0])
            changed = f"{line if line.startswith('is ') else f'is {line}'} {'+' if more > 0 else '-'} {abs(more)}"
            said = f"{where} is the {meaning} and {abs(more)} {'more' if more > 0 else 'less'} {several}"
            return Hint(where, said, f"{field.name}  {field.shape}  {changed}{when}")
    return None


def _columns(reading: Reading, block: BlockRead, numbers: Array) -> Iterator[tuple[str, str, Array]]:
    """What is known of each record: in words, as a layout says it, as a column."""
    entries, count = reading.entries, len(block.starts)
    for area in reading.areas.values():
        if isinstance(area.source, ChunkedSource) and len(area.source.chunk_list) == count:
            places = [area.source.stored_at(number) for number in range(count)]
            starts = np.array([start for start, _ in places], np.int64)
            sizes = np.array([area.source.held(number) for number in range(count)], np.int64)
            yield "start of chunk", "start of chunk", starts
            yield "size of chunk", "size of chunk", sizes
    if block.owners is None and block.block.skip is None and count:
        starts, sizes = block.starts.astype(np.int64), record_sizes(block)
        for what in attributes.OWN:
            yield what, what, own_numbers(what, starts, sizes, int(numbers[-1]))
    if entries is None or len(entries) != count:
        return
    end = entries.start + entries.stored
    for words, column in (
        (attributes.STORED, entries.stored),
        (attributes.SIZE, entries.size),
        (attributes.START, entries.start),
        (attributes.END, end),
    ):
        yield words, words, column
    yield "start of the next content", "is next (start of content)", np.append(entries.start[1:], -1)
    gap = f"is (start of content - previous (end of content)) mod {1 << 32:#x}"
    yield "distance to the content before", gap, entries.start - np.append(0, end[:-1])
    yield from _of_names(reading, count)
    for words, column in ((attributes.STORED, entries.stored), (attributes.SIZE, entries.size)):
        for unit in UNITS:
            rounded = (column + unit - 1) // unit
            yield f"{words}, rounded up to {unit}", f"is {words} rounded up to {unit}", rounded * unit
            yield f"number of units of {unit} bytes of content", f"is ({words} + {unit - 1}) / {unit}", rounded


def _of_names(reading: Reading, count: int) -> Iterator[tuple[str, str, Array]]:
    names = own_names(reading)
    if names is not None and len(names) == count:
        lengths = names.lengths.astype(np.int64)
        yield "length of name", "is length of name", lengths
        yield "length of name with its zero", "is length of name + 1", lengths + 1
    assert reading.entries is not None
    whole = reading.entries.names
    for part in ("leaf", "folder", "extension"):
        of = NameOf(part)
        column = np.array([len(of.of(raw, whole.encoding)) for raw in whole.raws()], np.int64)
        yield f"length of {part} of name", f"is length of {part} of name", column
