"""Which field covers which bytes of a file, and which bytes no field explains."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from volvex.layout.model import Fact, Field, Here, Kept, Number, Raw, Text
from volvex.layout.reading import BlockRead, Reading, offset_of
from volvex.layout.records import Texts, true

SHOWN = 10  # bytes shown of what no field explains


@dataclass(frozen=True)
class Stretch:
    """Bytes of a file and what they are: a field, content, filling, or unexplained."""

    start: int
    size: int
    what: str  # field, content, filling, unexplained
    name: str  # such as directory[3].size, or the entry's name
    shape: str = ""
    value: str = ""
    meaning: str = ""


@dataclass(frozen=True)
class Part:
    """A block or a content in the order of the file."""

    start: int
    size: int
    align: int
    fill: int
    block: BlockRead | None
    row: int  # the entry, when it is content, or the record of one that content follows


def parts(reading: Reading) -> Iterator[Part]:
    """The parts of a file in their order; bytes that entries share come once."""
    assert reading.entries is not None
    entries, content = reading.entries, reading.layout.content
    rows = np.flatnonzero(entries.stored > 0)
    _, first = np.unique(entries.start[rows], return_index=True)
    rows = rows[first]
    blocks = [block for block in reading.blocks.values() if block.ends is None]
    waiting = [Part(one.start, len(one.data), one.block.align, one.block.fill, one, -1) for one in blocks]
    for one in reading.blocks.values():
        if one.ends is not None:
            waiting += [Part(start, end - start, one.block.align, one.block.fill, one, row)
                        for row, (start, end) in enumerate(zip(one.starts.tolist(), one.ends.tolist(), strict=True))]  # fmt: skip
    waiting = sorted(waiting, key=lambda part: part.start)
    at = 0
    for row, start, size in zip(
        rows.tolist(), entries.start[rows].tolist(), entries.stored[rows].tolist(), strict=True
    ):
        while at < len(waiting) and waiting[at].start <= start:
            yield waiting[at]
            at += 1
        yield Part(start, size, content.align, content.fill, None, row)
    yield from waiting[at:]


def stretches(reading: Reading, limit: int | None = None) -> Iterator[Stretch]:
    """All of a file from its start to its end; of a repeating block at most `limit` records by field."""
    position = 0
    for part in parts(reading):
        if part.start > position:
            yield _between(reading, position, part)
        position = max(position, part.start + part.size)
        if part.block is not None:
            yield from _record(reading, part, limit) if part.row >= 0 else _block(reading, part.block, limit)
        else:
            yield _content(reading, part)
    if position < reading.source.size:
        yield _unexplained(reading, position, reading.source.size)


def _between(reading: Reading, start: int, part: Part) -> Stretch:
    size = part.start - start
    # as in writing: what the layout would put there itself is filling, all else is nobody's
    if size < part.align and reading.source.read(start, size) == bytes([part.fill]) * size:
        return Stretch(start, size, "filling", "filling", meaning=f"align {part.align} fill {part.fill:02x}")
    return _unexplained(reading, start, part.start)


def _unexplained(reading: Reading, start: int, end: int) -> Stretch:
    head = reading.source.read(start, min(SHOWN, end - start))
    return Stretch(
        start, end - start, "unexplained", "unexplained", value=head.hex(" ") + (" ..." if end - start > SHOWN else "")
    )


def _content(reading: Reading, part: Part) -> Stretch:
    assert reading.entries is not None
    codec = int(reading.entries.codec[part.row])
    how = reading.entries.codecs[codec] if codec >= 0 else "?"
    name = reading.entries.names.raw(part.row).decode(reading.entries.names.encoding, "backslashreplace")
    return Stretch(
        part.start, part.size, "content", name, meaning=f"content of {reading.home.block.name}[{part.row}], {how}"
    )


def _record(reading: Reading, part: Part, limit: int | None) -> Iterator[Stretch]:
    """One record of those that are followed by their content."""
    block = part.block
    assert block is not None
    if limit is not None and part.row >= limit:
        yield Stretch(part.start, part.size, "field", f"{block.block.name}[{part.row}]", meaning="a record")
        return
    yield from (
        field_stretch(reading, block, part.row, one) for one in block.block.fields if not isinstance(one.type, Here)
    )


def _block(reading: Reading, block: BlockRead, limit: int | None) -> Iterator[Stretch]:
    count = len(block.starts)
    shown = count if limit is None or not block.block.repeats else min(limit, count)
    for row in range(shown):
        for one in block.block.fields:
            yield field_stretch(reading, block, row, one)
    if shown < count:
        start = int(block.starts[shown])
        yield Stretch(start, block.end - start, "field", f"{block.block.name}[{shown}..{count - 1}]",
                      meaning=f"{count - shown} more records")  # fmt: skip


def field_stretch(reading: Reading, block: BlockRead, row: int, one: Field) -> Stretch:
    """The bytes of one field of one record, a text with its length or its ending zero."""
    start, column = offset_of(block, row, one.name), block.columns[one.name]
    if isinstance(one.type, Number):
        size = one.type.bits // 8
    elif isinstance(one.type, Text) and one.type.size is None:
        assert isinstance(column, Texts)
        extra = one.type.prefix.bits // 8 if one.type.prefix else 0
        start, size = start - extra, extra + int(column.lengths[row]) + (one.type.prefix is None)
    else:
        assert isinstance(one.type, Raw | Text)
        size = one.type.size or 0
    return Stretch(
        start, size, "field", block.where(row, one.name), one.shape, _value(reading, block, row, one), one.words
    )


def _value(reading: Reading, block: BlockRead, row: int, one: Field) -> str:
    column = block.columns[one.name]
    if isinstance(column, Texts):
        return column.raw(row).decode(column.encoding, "backslashreplace")
    if not isinstance(one.type, Number):
        raw = column[row].tobytes()
        return repr(raw)[1:] if raw.isascii() and raw.decode().isprintable() else str(raw.hex(" "))
    number = int(column[row])
    if isinstance(one.meaning, Fact) and one.meaning.table:
        return f"{number} {dict(one.meaning.table).get(number, '?')}"
    if one.changes:
        whole = int(true(column[row : row + 1], one, reading.source, block.starts)[0])
        return f"{number} ({whole:#x})"
    return f"{number:#x}" if _is_bits(one) else str(number)


def _is_bits(one: Field) -> bool:
    return (" of " in one.words and one.words.split()[0] not in ("count", "length", "size", "stored")) or isinstance(
        one.meaning, Kept
    )


@dataclass(frozen=True)
class Coverage:
    """How many bytes of a file are what."""

    size: int
    fields: int
    kept: int  # of the fields: those that nobody knows
    content: int
    filling: int
    unexplained: list[Stretch]


def coverage(reading: Reading) -> Coverage:
    """Count the bytes by what covers them."""
    sums = {"field": 0, "content": 0, "filling": 0}
    unexplained = []
    for stretch in stretches(reading, limit=0):
        if stretch.what == "unexplained":
            unexplained.append(stretch)
        else:
            sums[stretch.what] += stretch.size
    kept = sum(_kept_bytes(block) for block in reading.blocks.values())
    return Coverage(reading.source.size, sums["field"], kept, sums["content"], sums["filling"], unexplained)


def _kept_bytes(block: BlockRead) -> int:
    total = 0
    for one in block.block.fields:
        if isinstance(one.meaning, Kept):
            column = block.columns[one.name]
            total += int(column.lengths.sum()) if isinstance(column, Texts) else column.nbytes
    return total


def covering(reading: Reading, offset: int) -> Stretch:
    """What covers the byte at an offset."""
    for block in reading.blocks.values():
        if block.start <= offset < block.end:
            row = int(np.searchsorted(block.starts, offset, "right")) - 1
            for one in block.block.fields if row >= 0 else ():
                if isinstance(one.type, Here):
                    continue
                stretch = field_stretch(reading, block, row, one)
                if stretch.start <= offset < stretch.start + stretch.size:
                    return stretch
    position = 0
    for part in parts(reading):
        if position <= offset < part.start:
            return _between(reading, position, part)
        position = max(position, part.start + part.size)
        if part.block is None and part.start <= offset < position:
            return _content(reading, part)
    return Stretch(offset, 1, "unexplained", "the end of the file")
