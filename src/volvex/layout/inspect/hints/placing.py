"""Places: content and blocks that begin at multiples, gaps of one byte value, bytes that no field explains."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from volvex.layout.columns import Array
from volvex.layout.inspect.coverage import Piece, content_pieces, pieces
from volvex.layout.inspect.hints._hint import Hint
from volvex.layout.read.blocks import Reading
from volvex.layout.write.directory import by_start
from volvex.layout.write.skipped import stored_places
from volvex.source import Source

LARGEST = 1 << 16  # a multiple that is looked for
LEAST = 4
BITS = 10  # of evidence that starts are not multiples by chance
ORDERED = 6  # contents: so many are in order by chance once in 720 times
LOOKED = 1 << 16  # bytes of a gap that are looked at


@dataclass(frozen=True)
class Gap:
    """Bytes between two pieces that the layout's own padding does not explain. `value`: the one byte that they all are,
    or None."""

    start: int
    size: int
    value: int | None
    before: Piece | None  # the piece behind them; None at the end of the file


def hints(reading: Reading) -> Iterator[Hint]:
    content = list(_content(reading))
    yield from content
    yield from _order(reading)
    yield from _markers(reading)
    for within in ("", *reading.areas):
        yield from _gaps(reading, within, bool(content))


def _content(reading: Reading) -> Iterator[Hint]:
    """Starts of content that are all multiples of more than the layout says."""
    entries, content = reading.entries, reading.layout.content
    if entries is None or not len(entries) or content.others:
        return
    there = entries.stored > 0
    starts, stored = entries.start[there], entries.stored[there]
    if len(np.unique(starts)) < 3:
        return
    found = _multiple(starts)
    declared = content.align
    if found <= declared or found < LEAST or len(np.unique(starts)) * math.log2(found / declared) < BITS:
        return
    if not np.any(stored % found):  # they follow from sizes that are multiples
        return
    yield Hint(
        "content",
        f"all {len(starts):,} contents start at multiples of {found}, the layout has {declared}",
        f"content align {found}",
    )


def _order(reading: Reading) -> Iterator[Hint]:
    """Content that lies in the order of the records throughout."""
    entries, content = reading.entries, reading.layout.content
    inline = any(block.ends is not None for block in reading.blocks.values())
    if entries is None or content.ordered or inline or reading.volumes or by_start(reading):
        return
    starts = entries.start[entries.stored > 0]
    if len(np.unique(starts)) >= ORDERED and bool(np.all(starts[1:] >= starts[:-1])):
        yield Hint("content", f"all {len(starts):,} contents lie in the order of their records", "content in order")


def _markers(reading: Reading) -> Iterator[Hint]:
    """Records that are no entries and store a place at which nothing lies: it will be wrong as soon as something
    moves."""
    for block in reading.entry_blocks() if reading.entries is not None else ():
        for record in block.skipped:
            for field, value, anchor in stored_places(reading, block, record):
                if not anchor:
                    yield Hint(
                        block.block.name,
                        f"the record at {record.start:#x}, which is no entry, stores the place {value:#x} as its "
                        f"{field.name}: "
                        "no content starts or ends there, so it stays as it is",
                    )


def _multiple(numbers: Array) -> int:
    """The largest power of two of which all numbers are multiples."""
    joined = int(np.bitwise_or.reduce(numbers.astype(np.int64)))
    return min(LARGEST, joined & -joined) if joined else 1


def _gaps(reading: Reading, within: str, aligned: bool) -> Iterator[Hint]:
    """Bytes between the pieces of a source, grouped by what lies behind them."""
    found = list(_unexplained(reading, within))
    if reading.volumes and reading.layout.content.within == within:
        found += _between(reading.content_source, content_pieces(reading), [volume.base for volume in reading.volumes])
    inner = [gap for gap in found if gap.before is not None and gap.before.block is None and gap.before.area is None]
    others = [gap for gap in found if gap not in inner]
    if inner and not aligned:
        yield _between_contents(reading, inner)
    for gap in others:
        yield _before_block(gap, within)


def _unexplained(reading: Reading, within: str) -> Iterator[Gap]:
    source, position = reading.area(within), 0
    for piece in pieces(reading, within):
        if piece.start >= position:  # an empty content may lie within something else
            yield from _between(source, [piece], [position])
        position = max(position, piece.start + piece.size)
    if position < source.size:
        size, (align, fill) = source.size - position, reading.layout.end
        value = _only(source.peek(position, LOOKED))
        if within or size >= align or value != fill:
            yield Gap(position, size, value, None)


def _between(source: Source, found: Iterable[Piece], starts: Sequence[int]) -> Iterator[Gap]:
    """Bytes before pieces that are no padding; `starts`: where the source begins, and each file that it is made of."""
    position = 0
    for piece in found:
        position = max(position, *(start for start in starts if start <= piece.start), 0)
        if piece.start > position:
            size = piece.start - position
            data = source.peek(position, min(size, LOOKED))
            padding = size < piece.align and data == bytes([piece.fill]) * size
            if not padding:
                yield Gap(position, size, _only(data), piece)
        position = max(position, piece.start + piece.size)


def _only(data: bytes) -> int | None:
    return data[0] if data and data.count(data[0]) == len(data) else None


def _between_contents(reading: Reading, gaps: list[Gap]) -> Hint:
    values = Counter(gap.value for gap in gaps)
    total = sum(gap.size for gap in gaps)
    value = next(iter(values)) if len(values) == 1 else None
    align = _multiple(np.array([gap.start + gap.size for gap in gaps]))
    seen = (
        f"{total:,} bytes in {len(gaps):,} {'gap' if len(gaps) == 1 else 'gaps'} before contents that no field explains"
    )
    if value is None:
        return Hint("content", seen)
    if all(gap.size < max(align, 2) for gap in gaps) and align > 1:
        fill = f" fill {value:02x}" if value else ""
        return Hint(
            "content", f"{seen}, all {value:#04x}", f"content align {max(align, reading.layout.content.align)}{fill}"
        )
    return Hint("content", f"{seen}, all {value:#04x}")


def _end(gap: Gap) -> int:
    """The multiple up to which a gap fills the file; 0 when it does not seem to."""
    align = _multiple(np.array([gap.start + gap.size]))
    return align if align >= LEAST and gap.size < align else 0


def _before_block(gap: Gap, within: str) -> Hint:
    where = f" in {within}" if within else ""
    multiple = _end(gap) if gap.before is None and gap.value is not None and not within else 0
    if multiple:
        return Hint(
            "end",
            f"{gap.size:,} bytes at the end (from {gap.start:#x}), all {gap.value:#04x}, up to a multiple of "
            f"{multiple}",
            f"file align {multiple}" + (f" fill {gap.value:02x}" if gap.value else ""),
        )
    if gap.before is None:
        return Hint(
            "end",
            f"{gap.size:,} bytes at the end{where} (from {gap.start:#x}) that no field explains",
            f"block rest at {gap.start:#x}, with a field of {gap.size} bytes kept",
        )
    piece = gap.before
    name = (
        piece.block.block.name
        if piece.block is not None
        else piece.area.part.name
        if piece.area is not None
        else "content"
    )
    align = next(
        (
            one
            for one in (2, 4, 8, 16, 32, 64, 128, 256, 512, 1024, 2048, 4096)
            if piece.start % one == 0 and gap.size < one
        ),
        None,
    )
    seen = f"{gap.size:,} bytes before {name}{where} (from {gap.start:#x}) that no field explains"
    if gap.value is None or align is None:
        return Hint(name, seen, f"a block of {gap.size} bytes kept, or `align` of {name}")
    return Hint(
        name,
        f"{seen}, all {gap.value:#04x}",
        f"block {name} ... align {align}" + (f" fill {gap.value:02x}" if gap.value else ""),
    )
