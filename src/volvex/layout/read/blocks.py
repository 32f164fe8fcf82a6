"""What was read of a file by its layout: blocks as columns, parts, and where they lie.

Opening costs the directory, never the content. A part that is wrapped is a source of its own, in which places count
from its start.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

import numpy as np

from volvex.errors import FormatError
from volvex.layout.columns import Array, Columns, Texts, taken
from volvex.layout.entries import Entries
from volvex.layout.expression import sums_over_content
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import (
    CONTENTS,
    RECORD,
    Attribute,
    Block,
    ChecksumOf,
    Computed,
    Field,
    IntegerType,
    Layout,
    Measure,
    NumberChange,
    Part,
    Pool,
)
from volvex.layout.records.block import Records
from volvex.layout.records.numbers import decode_numbers, present
from volvex.layout.types.text import is_whole
from volvex.layout.volumes import Volume
from volvex.source import Source

DEEPEST = 1000  # folders within each other


@dataclass(frozen=True)
class Skipped:
    """A record that is no entry: where it lies, its bytes, the entry that it stands behind (-1: before all), its
    columns."""

    start: int
    data: bytes
    behind: int
    columns: Columns


@dataclass(frozen=True)
class BlockRead:
    """A block as it was read."""

    records: Records
    source: Source  # the file, or what a part of it holds
    start: int
    data: bytes
    columns: Columns
    starts: Array  # of each record, in the source
    ends: Array | None = None  # of each record, when content lies between them
    last: int = 0  # where the last of that content ends
    owners: Array | None = None  # of each record: the record of another block within which it lies
    skipped: tuple[Skipped, ...] = ()
    regions: Array | None = None  # of records in groups: start and stored size of each owner's group
    rows: tuple[Block, ...] = ()  # the rows that are joined here, each of which is a region
    stored: Mapping[bytes, bytes] = dataclasses.field(default_factory=dict)  # of wrapped groups, by what they hold
    grown: int = 0  # bytes of the data that are not in the file, since they were added

    @property
    def end(self) -> int:
        if self.regions is not None:
            return int(max(self.regions.sum(axis=1)[self.regions[:, 1] > 0], default=self.start))
        return self.start + len(self.data) - self.grown if self.ends is None else self.last

    @property
    def block(self) -> Block:
        return self.records.block

    def numbers(self, name: str) -> Array:
        """A column that is not a text."""
        column = self.columns[name]
        assert not isinstance(column, Texts)
        return column

    def where(self, row: int, name: str) -> str:
        """A field's path in errors."""
        return f"{self.block.name}[{row}].{name}" if self.block.repeats else f"{self.block.name}.{name}"

    def present(self, field: Field) -> Array:
        """In which records a field is there."""
        if field.when is None:
            return np.ones(len(self.starts), bool)
        return present(self.block.fields, field.when, self.columns)

    def offset(self, row: int, name: str) -> int:
        """Where a field of a record lies in the source (after its length prefix, for a text)."""
        return int(self.starts[row]) + offset_in(self.records, self.columns, name, row)

    def tail_size(self, row: int, field: Field) -> int:
        """The bytes of a field of changing size, without the zero at its end."""
        return tail_size(self.block, self.columns, row, field)


def offset_in(records: Records, columns: Columns, name: str, row: int) -> int:
    """Where in the bytes of a record a field starts (after its length prefix, for a text)."""
    kind = next(field.type for field in records.block.fields if field.name == name)
    if kind.uses == "bits":
        name = kind.sibling
    at = 0
    for run in records.runs:
        for field in run.fields:
            if field.name == name and run.dtype.fields is not None:
                return at + int(run.dtype.fields[name][1])
        at += run.size
        if run.tail is not None:
            if run.tail.name == name:
                return at
            at += tail_size(records.block, columns, row, run.tail) + run.ending
    return at


def tail_size(block: Block, columns: Columns, row: int, field: Field) -> int:
    """The bytes of a field of changing size in a record, without the zero at its end."""
    own = {name: taken(column, np.array([row])) for name, column in columns.items()} if field.when else columns
    there = field.when is None or bool(present(block.fields, field.when, own)[0])
    column = columns[field.name]
    if there and is_whole(field):
        return len(field.type.tail_bytes(taken(column, np.array([row])), np.ones(1, bool))[0])
    return field.type.tail_size(column, row) if there else 0


@dataclass(frozen=True)
class Area:
    """A wrapped part: where its stored bytes lie in the file, and what they hold."""

    part: Part
    start: int
    stored: int
    source: Source


@dataclass
class Reading:
    """A file read by its layout."""

    original: Layout  # as its author wrote it
    source: Source
    layout: Layout  # without what this file has not: conditions on the whole file are settled
    blocks: dict[str, BlockRead] = dataclasses.field(default_factory=dict)
    areas: dict[str, Area] = dataclasses.field(default_factory=dict)
    beside: dict[str, BlockRead] = dataclasses.field(default_factory=dict)  # in files beside this one: only read
    entries: Entries | None = None
    volumes: list[Volume] = dataclasses.field(default_factory=list)  # files beside this one in which the content lies
    joined: Source | None = None  # and all of them as one
    blanks: int = 0  # entries at the end that only stand in for new ones

    def close(self) -> None:
        """Let go of the file, and of what its parts hold."""
        self.let_go()
        self.source.close()

    def let_go(self) -> None:
        """Let go of parts and volumes, and not of the file itself."""
        for source in (*(area.source for area in self.areas.values()), *(volume.source for volume in self.volumes)):
            source.close()

    def area(self, name: str) -> Source:
        """The source of a part, or the file's own."""
        return self.areas[name].source if name else self.source

    @property
    def content_source(self) -> Source:
        """Where the entries' stored bytes lie."""
        return self.joined if self.joined is not None else self.area(self.layout.content.within)

    @property
    def home(self) -> BlockRead:
        """The block that holds the entries' names, or says where they are; of entries without, that of their
        records."""
        found = next((found for found in map(self.attribute, attributes.NAMING) if found is not None), None)
        return (
            found[0] if found is not None else next(block for block in self.blocks.values() if block.ends is not None)
        )

    @property
    def counted(self) -> bool:
        """Whether entries have neither names nor keys, and are called by their number."""
        return all(self.attribute(what) is None for what in attributes.NAMING)

    def pool(self) -> tuple[BlockRead, Field] | None:
        """The pool of names, if the entries point to one."""
        pools = (
            (block, field)
            for block in self.blocks.values()
            for field in block.block.fields
            if isinstance(field.meaning, Pool)
        )
        return next(pools, None)

    def rooted(self, of: str) -> list[BlockRead]:
        """The blocks that have a record for each entry, folder or type."""
        return [self.blocks[block.name] for block in self.layout.rooted(of)]

    def entry_blocks(self) -> list[BlockRead]:
        """The blocks that have a record for each entry."""
        return self.rooted("entry")

    def attributes(self, what: str) -> list[tuple[BlockRead, Field]]:
        """The fields that carry a fact, and their blocks: several when they depend on something."""
        return [
            (block, field)
            for block in self.blocks.values()
            for field in block.block.fields
            if isinstance(field.meaning, Attribute) and field.meaning.what == what and not field.meaning.upper
        ]

    def attribute(self, what: str) -> tuple[BlockRead, Field] | None:
        """The first field that carries a fact, and its block."""
        return next(iter(self.attributes(what)), None)

    def entry_checksums(self) -> list[tuple[BlockRead, Field, ChecksumOf]]:
        """The checksums of each entry: their block and field, and what they cover."""
        return [
            (block, field, field.meaning)
            for block in self.entry_blocks()
            for field in block.block.fields
            if isinstance(field.meaning, ChecksumOf) and field.meaning.part in attributes.PARTS
        ]

    def content_sums(self) -> list[tuple[str, str]]:
        """Every checksum that some field takes of content, and over which of it: `content` or `stored content`."""
        found = [(meaning.algorithm, meaning.part) for _, _, meaning in self.content_checksums()]
        for block in self.entry_blocks():
            for field in block.block.fields:
                if isinstance(field.meaning, Computed):
                    found += sums_over_content(field.meaning.value)
        for name in (self.layout.content.head, self.layout.content.tail):
            record = self.layout.record(name)
            for field in record.fields if record is not None else ():
                if isinstance(field.meaning, Computed):
                    found += sums_over_content(field.meaning.value)
        return list(dict.fromkeys(found))

    def content_checksums(self) -> list[tuple[BlockRead, Field, ChecksumOf]]:
        """Those of them that cover content, not the name."""
        return [found for found in self.entry_checksums() if found[2].part not in attributes.NAMES]

    def edge(self, edge: str, name: str) -> int:
        """Where a block or part starts or ends, in its source."""
        if name == CONTENTS and edge == "start":
            return measured(self, "start", CONTENTS) or 0
        if name in self.areas:
            return self.areas[name].start + (self.areas[name].stored if edge == "end" else 0)
        block = self.blocks.get(name)
        if block is None:
            raise FormatError(
                self.source.name,
                f"a place is counted from {name}, which this file has not",
                hint="a layout for this version of the format",
            )
        return block.end if edge == "end" else block.start

    def settled(self, field: Field) -> Field:
        """A field whose changes are numbers: places that count from a part get where that is."""
        return settled_by(field, self.edge)

    def decode_numbers(self, block: BlockRead, field: Field) -> Array:
        """The true numbers of a column, with the upper bits that another field holds."""
        return decode_numbers(with_upper(block, field), self.settled(field), block.source, block.starts)


def settled_by(field: Field, edge: Callable[[str, str], int]) -> Field:
    """A field in which what counts from the edge of a part has a number in its place."""
    if all(change.how != "from" for change in field.changes):
        return field
    return replace(field, changes=tuple(_settled_change(change, edge) for change in field.changes))


def _settled_change(change: NumberChange, edge: Callable[[str, str], int]) -> NumberChange:
    if change.how != "from":
        return change
    return NumberChange("record") if change.part == RECORD else NumberChange("plus", edge(change.edge, change.part))


def is_relative(field: Field) -> bool:
    """Whether a field's numbers count from where their record starts."""
    return any(change.part == RECORD or change.how == "record" for change in field.changes)


def with_upper(block: BlockRead, field: Field) -> Array:
    """A column's stored numbers, with the upper bits that another field of the record holds."""
    low, upper = block.numbers(field.name), upper_field(block.block, field)
    if upper is None:
        return low
    bits = field.type.value_bits if isinstance(field.type, IntegerType) else 0
    high = block.numbers(upper.name).astype(object)
    whole = (high << bits) + low.astype(object)
    return whole if bits > 40 else np.asarray(whole, np.int64)


def upper_field(block: Block, field: Field) -> Field | None:
    """The field that holds the upper bits of what another says."""
    from volvex.layout.language.check.siblings import half_of  # few layouts have halves

    return half_of(block, field.meaning, True) if isinstance(field.meaning, Attribute | Measure) else None


def measuring_field(reading: Reading, what: str, part: str) -> tuple[BlockRead, Field] | None:
    """The field that holds a measurement in this file, and its block."""
    for block in reading.blocks.values():
        for field in block.block.fields:
            meaning = field.meaning
            if not isinstance(meaning, Measure) or meaning.upper or (meaning.what, meaning.part) != (what, part):
                continue
            if bool(block.present(field)[:1].all()):
                return block, field
    return None


def measured(reading: Reading, what: str, part: str) -> int | None:
    """A measurement as a field holds it; None when no field does."""
    found = measuring_field(reading, what, part)
    if found is None or (what == "count" and found[0].block.repeats):
        return None
    home, field = found
    number = int(reading.decode_numbers(home, field)[0])
    if number < 0:
        raise FormatError(
            home.source.name,
            f"{number} cannot be the {what} of {part}",
            offset=home.offset(0, field.name),
            field=home.where(0, field.name),
        )
    return number
