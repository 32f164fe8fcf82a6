"""Reading a file by its layout: blocks found one from the other, the directory as columns.

Opening costs the directory, never the content.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from volvex.codec import SEAL
from volvex.errors import FormatError
from volvex.layout import check
from volvex.layout.kinds import archive as facts
from volvex.layout.model import At, Block, Constant, Fact, Field, Known, Layout, Number, Pool, Raw, SealOf, Text
from volvex.layout.records import Array, Columns, Records, Texts, true
from volvex.source import Source

SEARCHED = 1 << 24  # bytes at the end of a file in which a mark is searched
STEP = 1 << 20


@dataclass(frozen=True)
class BlockRead:
    """A block as it was read."""

    records: Records
    start: int
    data: bytes
    columns: Columns
    starts: Array  # of each record, in the file
    ends: Array | None = None  # of each record, when content lies between them
    last: int = 0  # where the last of that content ends

    @property
    def end(self) -> int:
        return self.start + len(self.data) if self.ends is None else self.last

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


@dataclass(frozen=True)
class Entries:
    """The facts about all entries as columns of one length: int64 arrays, and the names."""

    names: Texts
    start: Array
    stored: Array
    size: Array
    codec: Array  # indexes into `codecs`; -1 for a number that the layout does not know
    codecs: list[str]

    def __len__(self) -> int:
        return len(self.names)


@dataclass
class Reading:
    """A file read by its layout."""

    layout: Layout
    source: Source
    blocks: dict[str, BlockRead] = field(default_factory=dict)
    entries: Entries | None = None

    @property
    def home(self) -> BlockRead:
        """The block that holds the entries' names, or says where they are."""
        found = self.fact(facts.NAME) or self.fact(facts.NAME_AT)
        assert found is not None
        return found[0]

    def pool(self) -> tuple[BlockRead, Field] | None:
        """The pool of names, if the entries point to one."""
        pools = (
            (block, one)
            for block in self.blocks.values()
            for one in block.block.fields
            if isinstance(one.meaning, Pool)
        )
        return next(pools, None)

    def entry_blocks(self) -> list[BlockRead]:
        """The blocks that have a record for each entry."""
        return [self.blocks[block.name] for block in self.layout.entry_blocks()]

    def fact(self, what: str) -> tuple[BlockRead, Field] | None:
        """The field that carries a fact, and its block."""
        for block in self.blocks.values():
            for one in block.block.fields:
                if isinstance(one.meaning, Fact) and one.meaning.what == what:
                    return block, one
        return None

    def entry_seals(self) -> list[tuple[BlockRead, Field, SealOf]]:
        """The seals of each entry: their block and field, and what they cover."""
        return [
            (block, one, one.meaning)
            for block in self.entry_blocks()
            for one in block.block.fields
            if isinstance(one.meaning, SealOf) and one.meaning.part in facts.PARTS
        ]


def fits(layout: Layout, source: Source) -> bool:
    """Whether a file bears the marks by which the layout knows its files; False when it names none."""
    return bool(layout.known) and all(_bears(source, one) for one in layout.known)


def _bears(source: Source, known: Known) -> bool:
    try:
        start = _place(source, known.at, known.value.decode("latin-1"))
    except FormatError:
        return False
    return source.peek(start, len(known.value)) == known.value if start <= source.size else False


def _place(source: Source, at: At, name: str) -> int:
    """Where in a file a place is; FormatError when the file has no such place."""
    if at.mark:
        return _search_back(source, at.mark, name)
    start = source.size - at.offset if at.from_end else at.offset
    if start < 0:
        raise FormatError(source.name, f"{name} should stand {at.offset} bytes before the end, the file has {source.size}",
                          hint="a fresh copy of the file: it may be cut off")  # fmt: skip
    return start


def _search_back(source: Source, mark: bytes, name: str) -> int:
    """Where some bytes stand for the last time within the last megabytes of a file."""
    end, least = source.size, max(0, source.size - SEARCHED)
    while end > least:
        start = max(least, end - STEP)
        found = source.read(start, min(source.size, end + len(mark) - 1) - start).rfind(mark)
        if found >= 0:
            return start + found
        end = start
    raise FormatError(source.name, f"{name} starts with {mark!r}, which is not within the last {SEARCHED >> 20} MB",
                      hint="a fresh copy of the file: it may be cut off")  # fmt: skip


def read(layout: Layout, source: Source) -> Reading:
    """Read a file's blocks and check all that can be checked without its content.

    FormatError names the first field that is not what the layout says.
    """
    reading = Reading(layout, source)
    for block in check.reading_order(layout):
        reading.blocks[block.name] = _read_block(reading, block)
    _check_constants(reading)
    _check_lengths(reading)
    _check_counts(reading)
    _check_seals(reading)
    reading.entries = _entries(reading)
    _check_entries(reading, reading.entries)
    return reading


def _read_block(reading: Reading, block: Block) -> BlockRead:
    start = _start(reading, block)
    count = _measured(reading, "count", block.name) if block.repeats else 1
    if block.along:
        count = len(reading.blocks[block.along].starts)
    length = _measured(reading, "length", block.name)
    records = Records(block)
    if block.inline:
        stored = _stored_field(block)
        inline = records.read_inline(reading.source, start, count, stored, reading.layout.content.align)
        return BlockRead(records, start, b"", inline.columns, inline.starts, inline.ends, inline.end)
    found = records.read(reading.source, start, count, length)
    return BlockRead(records, start, found.data, found.columns, found.starts)


def _stored_field(block: Block) -> Field:
    """The field that says how many bytes of content follow a record."""
    told = {one.meaning.what: one for one in block.fields if isinstance(one.meaning, Fact)}
    return told[facts.STORED if facts.STORED in told else facts.SIZE]


def _start(reading: Reading, block: Block) -> int:
    if block.at is None:
        start = _measured(reading, "start", block.name)
        assert start is not None
        return start
    if block.at.after:
        end = reading.blocks[block.at.after].end
        return end + -end % block.align
    return _place(reading.source, block.at, block.name)


def _measured(reading: Reading, what: str, part: str) -> int | None:
    """A measurement as a field holds it; None when no field does."""
    found = check.measures(reading.layout).get((what, part))
    if found is None or found[0].name not in reading.blocks:
        return None
    home = reading.blocks[found[0].name]
    number = int(true(home.numbers(found[1].name)[:1], found[1], reading.source, home.starts)[0])
    if number < 0:
        raise FormatError(reading.source.name, f"{number} cannot be the {what} of {part}",
                          offset=_offset(home, 0, found[1].name), field=home.where(0, found[1].name))  # fmt: skip
    return number


def _offset(block: BlockRead, row: int, name: str) -> int:
    """Where a field of a record lies in the file."""
    at = int(block.starts[row])
    for run in block.records.runs:
        for one in run.fields:
            if one.name == name and run.dtype.fields is not None:
                return at + int(run.dtype.fields[name][1])
        at += run.size
        if run.text is not None:
            if run.text.name == name:
                return at
            texts = block.columns[run.text.name]
            assert isinstance(texts, Texts)
            at += int(texts.lengths[row]) + (getattr(run.text.type, "prefix", None) is None)
    return at


def offset_of(block: BlockRead, row: int, name: str) -> int:
    """Where a field of a record lies in the file (after its length prefix, for a text)."""
    return _offset(block, row, name)


def _check_constants(reading: Reading) -> None:
    for block in reading.blocks.values():
        for one in block.block.fields:
            if not isinstance(one.meaning, Constant) or not len(block.starts):
                continue
            values, wanted = block.numbers(one.name), one.meaning.value
            row = _first_difference(values, wanted, one)
            if row is not None:
                found = values[row].tobytes() if isinstance(one.type, Raw) else int(values[row])
                raise FormatError(reading.source.name, f"{found!r}, expected {wanted!r}", offset=_offset(block, row, one.name),
                                  field=block.where(row, one.name), hint="a layout for this version of the format")  # fmt: skip


def _first_difference(values: Array, wanted: bytes | int, one: Field) -> int | None:
    if isinstance(one.type, Raw):
        different = values != np.frombuffer(wanted if isinstance(wanted, bytes) else b"", values.dtype)[0]
    else:
        different = values != wanted
    return int(np.argmax(different)) if different.any() else None


def _check_lengths(reading: Reading) -> None:
    found = _measured(reading, "length", "file")
    if found is not None and found != reading.source.size:
        home, one = check.measures(reading.layout)["length", "file"]
        block = reading.blocks[home.name]
        raise FormatError(reading.source.name, f"the file has {reading.source.size} bytes, this says {found}",
                          offset=_offset(block, 0, one.name), field=block.where(0, one.name),
                          hint="a fresh copy of the file: it may be cut off")  # fmt: skip


def _check_counts(reading: Reading) -> None:
    """Counts that were not needed for finding the records are right all the same."""
    for (what, part), (home, one) in check.measures(reading.layout).items():
        if what == "count" and reading.blocks[part].block.until is not None:
            told, found = _measured(reading, "count", part), len(reading.blocks[part].starts)
            if told != found:
                block = reading.blocks[home.name]
                raise FormatError(reading.source.name, f"{part} has {found} records, this says {told}",
                                  offset=_offset(block, 0, one.name), field=block.where(0, one.name))  # fmt: skip


def block_seals(layout: Layout) -> list[tuple[Block, Field, SealOf]]:
    """The seals over blocks: the block that holds each, its field, what it covers."""
    return [
        (block, one, one.meaning)
        for block in layout.blocks
        for one in block.fields
        if isinstance(one.meaning, SealOf) and layout.block(one.meaning.part)
    ]


def seal_value(algorithm: str, data: bytes) -> int:
    """The seal over some bytes."""
    seal = SEAL.get(algorithm).new()
    seal.update(data)
    return seal.value()


def seal_size(one: Field) -> int:
    """The bytes of a seal's field."""
    return one.type.bits // 8 if isinstance(one.type, Number) else int(getattr(one.type, "size", 0) or 0)


def seal_text(one: Field, value: int) -> str:
    """A seal as it is told: as many digits as it has."""
    return f"0x{value:0{2 * seal_size(one)}x}"


def stored_seal(one: Field, column: Array, row: int) -> int:
    """A seal as a field holds it; a digest in bytes has its highest byte first."""
    return int.from_bytes(column[row].tobytes(), "big") if isinstance(one.type, Raw) else int(column[row])


def _check_seals(reading: Reading) -> None:
    for home, one, meaning in block_seals(reading.layout):
        holder, covered = reading.blocks[home.name], reading.blocks[meaning.part]
        data = covered.data
        if holder is covered:  # its own bytes count as zero
            at, size = _offset(holder, 0, one.name) - holder.start, seal_size(one)
            data = data[:at] + bytes(size) + data[at + size :]
        value, found = seal_value(meaning.algorithm, data), stored_seal(one, holder.numbers(one.name), 0)
        if value != found:
            raise FormatError(
                reading.source.name, f"the {meaning.algorithm} of {meaning.part} is {seal_text(one, value)}, the file says {seal_text(one, found)}",
                offset=_offset(holder, 0, one.name), field=holder.where(0, one.name),
                hint="a fresh copy of the file: some of its bytes have changed",
            )  # fmt: skip


def _entries(reading: Reading) -> Entries:
    columns: dict[str, Any] = {}
    for block in reading.entry_blocks():
        for one in block.block.fields:
            if isinstance(one.meaning, Fact):
                column = block.columns[one.name]
                whole = column if isinstance(column, Texts) else true(column, one, reading.source, block.starts)
                columns[one.meaning.what] = whole
    names = columns[facts.NAME] if facts.NAME in columns else _pooled(reading, columns[facts.NAME_AT])
    codec_field = reading.fact(facts.CODEC)
    codecs, codec = _codecs(codec_field[1] if codec_field else None, columns.get(facts.CODEC), len(names))
    for block in reading.blocks.values():
        if block.ends is not None:
            columns[facts.START] = block.ends + -block.ends % reading.layout.content.align
    if reading.layout.content.until_next:
        columns[facts.STORED] = _until_next(reading, columns[facts.START])
    stored = columns[facts.STORED if facts.STORED in columns else facts.SIZE]
    return Entries(names, columns[facts.START], stored, columns.get(facts.SIZE, stored), codec, codecs)


def _pooled(reading: Reading, places: Array) -> Texts:
    """The names that stand at these places of the pool, counted from its start."""
    pool = reading.pool()
    assert pool is not None and isinstance(pool[1].type, Text)
    block, kind = pool[0], pool[1].type
    data = np.frombuffer(block.data, np.uint8)
    if kind.prefix is None:
        zeros = np.flatnonzero(data == 0)
        _refuse(reading, (places < 0) | (places > (zeros[-1] if len(zeros) else -1)), facts.NAME_AT,
                lambda row: f"{int(places[row])} is no place in {block.block.name}, which has {len(data)} bytes")  # fmt: skip
        return Texts(block.data, places, zeros[np.searchsorted(zeros, places)] - places, kind.encoding)
    texts = block.columns[pool[1].name]
    assert isinstance(texts, Texts)
    starts = block.starts - block.start
    row = np.searchsorted(starts, places)
    wrong = (
        (places < 0)
        | (row >= len(starts))
        | (starts[np.minimum(row, max(0, len(starts) - 1))] != places if len(starts) else True)
    )
    _refuse(reading, wrong, facts.NAME_AT, lambda row: f"no text starts at {int(places[row])} in {block.block.name}")
    return texts.take(row)


def _until_next(reading: Reading, starts: Array) -> Array:
    """Sizes that nothing tells: each content ends where the next one, a block or the file does.

    Of entries that start at the same place all but the last are empty.
    """
    order = np.argsort(starts, kind="stable")
    ends = np.array(sorted([*(block.start for block in reading.blocks.values()), reading.source.size]), np.int64)
    bounds = ends[np.minimum(np.searchsorted(ends, starts[order], "left"), len(ends) - 1)]
    following = np.append(starts[order][1:], reading.source.size)
    sizes = np.empty(len(starts), np.int64)
    sizes[order] = np.minimum(bounds, following) - starts[order]
    return sizes


def _codecs(one: Field | None, numbers: Array | None, count: int) -> tuple[list[str], Array]:
    if one is None or numbers is None or not isinstance(one.meaning, Fact):
        return ["none"], np.zeros(count, np.int64)
    codecs = [name for _, name in one.meaning.table]
    index = np.full(count, -1, np.int64)
    for position, (number, _) in enumerate(one.meaning.table):
        index[numbers == number] = position
    return codecs, index


def _check_entries(reading: Reading, entries: Entries) -> None:
    """Every entry lies within the file and on none of the blocks."""
    end = entries.start + entries.stored
    negative = (entries.start < 0) | (entries.stored < 0) | (entries.size < 0)
    _refuse(reading, negative, facts.START, lambda row: "a place or size below zero")
    size = reading.source.size
    _refuse(reading, end > size, facts.STORED, lambda row: (
        f"{int(entries.stored[row])} bytes from {int(entries.start[row]):#x} reach past the end of the file at {size:#x}"
    ))  # fmt: skip
    for block in reading.blocks.values():
        if block.ends is not None:
            continue  # its contents lie between its records
        on = (entries.start < block.end) & (end > block.start) & (entries.stored > 0)
        _refuse(reading, on, facts.START, lambda row, block=block: (
            f"content at {int(entries.start[row]):#x} overlaps {block.block.name} at {block.start:#x}"
        ))  # fmt: skip


def _refuse(reading: Reading, wrong: Array, what: str, say: Any) -> None:
    if not wrong.any():
        return
    row = int(np.argmax(wrong))
    found = reading.fact(what) or reading.fact(facts.SIZE) or reading.fact(facts.START)
    assert found is not None
    block, one = found
    raise FormatError(reading.source.name, say(row), offset=_offset(block, row, one.name), field=block.where(row, one.name),
                      hint="a fresh copy of the file, or the layout: is the start counted in another unit?")  # fmt: skip
