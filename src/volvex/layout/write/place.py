"""The parts of one source in the order in which they lie, and where they come to lie.

The parts are blocks, wrapped parts, and contents (bytes that several entries share are one). What lies between two
parts is padding when it is what the layout would put there; otherwise nobody knows what it is, and it is kept in front
of the part that follows it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from volvex.errors import FRESH, FormatError
from volvex.layout.columns import Array
from volvex.layout.model import At, Reach
from volvex.layout.read.blocks import Area, BlockRead
from volvex.layout.write.plan import Piece
from volvex.source import Source

NONE = np.zeros(0, np.int64)


@dataclass(frozen=True)
class Moved:
    """Content that is encrypted again because its key depends on where it lies."""

    span: int
    start: int


@dataclass(frozen=True)
class New:
    """New content, by its index."""

    index: int


@dataclass(frozen=True)
class RecordOf:
    """The record of an entry that is followed by its content, by its row in the new directory."""

    row: int


@dataclass(frozen=True)
class WholePart:
    """A block or wrapped part, by its name."""

    name: str


Step = Piece | Moved | New | RecordOf | WholePart


@dataclass(frozen=True)
class Fixed:
    """A block or wrapped part as the placer sees it."""

    name: str
    start: int
    size: int
    at: At | None
    align: int
    fill: int
    last: bool = False  # whether it goes on until the end of the source
    new: bool = False  # whether it has no place yet, only parts before it


def fixed_of(block: BlockRead | Area) -> Fixed:
    """A block or wrapped part for placing."""
    if isinstance(block, Area):
        part = block.part
        last = part.reach is not None and part.reach == Reach("end")
        return Fixed(part.name, block.start, block.stored, part.at, part.align, part.fill, last)
    own = block.block
    return Fixed(own.name, block.start, len(block.data) - block.grown, own.at, own.align, own.fill, own.until == b"")


@dataclass(frozen=True)
class Contents:
    """The entries' contents for placing: stretches of stored bytes, each once, and what becomes of them."""

    spans: Array  # start and size of each
    align: Array
    fill: Array
    new: Array  # index of the new content in its place, or -1
    gone: Array  # whether nothing of it remains
    loose: list[tuple[int, int, int]]  # new contents that go behind the last: index, alignment, padding
    keyed: bool = False  # whether keys depend on where a content lies
    rekeyed: Array = field(
        default_factory=lambda: NONE.astype(bool)
    )  # whether a span is encrypted again wherever it lies

    room: int = 1 << 62  # the size of their source
    anchors: Sequence[int] = ()  # the span behind which each of `loose` goes instead, -1: before all

    @classmethod
    def none(cls) -> Contents:
        """No content at all."""
        return cls(np.zeros((0, 2), np.int64), NONE, NONE, NONE, np.zeros(0, bool), [])

    @property
    def floating(self) -> Array:
        """Which spans are mere numbers: empty, and not where a content could be placed."""
        starts = self.spans[:, 0]
        empty = (starts == 0) | (starts > self.room) | (starts % np.maximum(1, self.align) != 0)
        return np.asarray((self.spans[:, 1] == 0) & empty, bool)


@dataclass(frozen=True)
class Inline:
    """Records that are each followed by their content."""

    block: BlockRead
    size: Callable[[int], int]  # of a record, by its row in the new directory
    new_row: Array  # of each old row
    first_loose: int  # the row of the first loose content in the new directory
    new: Array  # index of the new content of each row, or -1
    gone: Array


@dataclass
class Placed:
    """The offsets of all parts, and the steps that write them."""

    steps: list[Step] = field(default_factory=list)
    size: int = 0
    starts: dict[str, int] = field(default_factory=dict)  # of blocks and wrapped parts
    span_start: Array = field(default_factory=lambda: NONE)  # of each span
    new_start: dict[int, int] = field(default_factory=dict)  # of each new content
    inline_end: int = 0
    first_content: int = -1  # where the first content starts, and the last ends
    last_content: int = 0
    room: int = 0  # where the first content would start, when there is none

    def hold(self, start: int, end: int) -> None:
        """Take note of content that has been placed."""
        self.first_content = start if self.first_content < 0 else min(start, self.first_content)
        self.last_content = max(end, self.last_content)


@dataclass
class _Parts:
    """All parts in the order of the source, as columns."""

    start: Array
    size: Array
    align: Array
    fill: Array
    fixed: Array  # index into the blocks and wrapped parts, -1 for content
    record: Array  # the entry whose record it is, when content follows each record; -1 otherwise
    span: Array  # index into the spans, -1 for what is no content
    hanging: Array  # whether it is empty, and takes no place although its number says where it would have one
    new: Array  # index into the new contents, -1: as it was
    gone: Array  # whether the part is left out


class Placer:
    """Places the parts of one source; `each` places every content by itself and makes every padding again.

    When `pinned`, contents stay where they are: what is left out, or is smaller now, leaves a hole that is filled.
    """

    def __init__(
        self,
        source: Source,
        fixed: Sequence[Fixed],
        contents: Contents,
        inline: Inline | None,
        each: bool,
        pinned: bool = False,
        filled: tuple[int, int] = (1, 0),
    ) -> None:
        self.filled = filled  # up to which multiple the end is filled, and with which byte
        self.source, self.fixed, self.contents, self.inline = source, list(fixed), contents, inline
        self.each, self.pinned = each, pinned
        self.parts = self._sorted_parts()

    def _sorted_parts(self) -> _Parts:
        contents, fixed, inline = self.contents, self.fixed, self.inline
        hanging = self._hanging()
        real = np.flatnonzero(~contents.floating | (hanging >= 0))
        count = len(real)
        rows = np.arange(len(inline.block.starts)) if inline is not None else NONE
        ends = inline.block.ends if inline is not None else None
        own = np.where(hanging[real] >= 0, hanging[real], contents.spans[real, 0])
        start = _stack(own, [fixed.start for fixed in fixed], inline.block.starts if inline else NONE)
        size = _stack(
            contents.spans[real, 1],
            [fixed.size for fixed in fixed],
            ends - inline.block.starts if inline is not None and ends is not None else NONE,
        )
        order = np.lexsort((start + size, start))

        def column(ours: Array, of_fixed: list[int], of_records: Array | int) -> Array:
            return _stack(ours, of_fixed, np.broadcast_to(of_records, len(rows)))[order]

        block, ones, nothing = inline.block.block if inline else None, np.ones(count, np.int64), [-1] * len(fixed)
        return _Parts(
            start[order],
            size[order],
            column(contents.align[real], [fixed.align for fixed in fixed], block.align if block else 1),
            column(contents.fill[real], [fixed.fill for fixed in fixed], block.fill if block else 0),
            column(-ones, list(range(len(fixed))), -1),
            column(-ones, nothing, rows),
            column(real, nothing, -1),
            column(hanging[real] >= 0, nothing, 0) > 0,
            column(contents.new[real], nothing, inline.new if inline else -1),
            column(
                contents.gone[real] & (contents.new[real] < 0), [0] * len(fixed), inline.gone if inline else 0
            ).astype(bool),
        )

    def _hanging(self) -> Array:
        """For each span where it hangs, -1 for most: behind which byte an empty one would have its place, where its
        number is that place (at the multiple of its alignment), and something else has the bytes there."""
        contents = self.contents
        found = np.full(len(contents.spans), -1, np.int64)
        starts, sizes = contents.spans[:, 0], contents.spans[:, 1]
        empty = np.flatnonzero((sizes == 0) & (starts > 0))
        if not len(empty) or self.inline is not None:  # in a row each has a place behind its record
            return found
        real = sizes > 0
        first = _stack(starts[real], [fixed.start for fixed in self.fixed], NONE)
        ends = _stack((starts + sizes)[real], [fixed.start + fixed.size for fixed in self.fixed], NONE)
        order = np.argsort(first, kind="stable")
        first, ends = first[order], np.maximum.accumulate(ends[order]) if len(order) else ends
        content_ends = (starts + sizes)[real]
        inside = np.searchsorted(first, starts[empty], "left") - 1  # the last that starts before it
        for span, within in zip(empty.tolist(), inside.tolist(), strict=True):
            covered = within >= 0 and int(ends[within]) > starts[span]
            if not covered and starts[span] < contents.room:
                continue
            before = content_ends[content_ends <= starts[span]]
            last = int(ends[within - 1]) if covered and within > 0 else 0 if covered else int(ends[-1])
            for end in (int(before.max()) if len(before) else last, last):
                size, fill = int(starts[span]) - end, bytes([int(contents.fill[span])])
                padded = not covered and self.source.peek(end, size) == fill * size
                if size == -end % int(contents.align[span]) and not padded:
                    found[span] = end  # otherwise it is somewhere else, or has a place with padding in front
                    break
        return found

    def check(self, name_of_span: Callable[[int], str]) -> None:
        """Parts must not overlap, and must stand where the layout would put them; FormatError otherwise."""
        parts = self.parts
        ends = np.maximum.accumulate(parts.start + parts.size)
        overlap = np.flatnonzero(parts.start[1:] < ends[:-1])
        if len(overlap):
            part = int(overlap[0]) + 1
            raise FormatError(
                self.source.name,
                f"{self._name(part, name_of_span)} overlaps what lies before it, which ends at {ends[part - 1]:#x}",
                offset=int(parts.start[part]),
                hint=FRESH,
                asked="another layout",
            )
        numbers = [
            index
            for index, fixed in enumerate(self.fixed)
            if fixed.new or (fixed.at is not None and not fixed.at.after)
        ]
        free = np.isin(parts.fixed, numbers)
        if self.inline is not None:
            free |= (parts.record >= 0) & (parts.start == self.inline.block.start)
        crooked = np.flatnonzero((parts.start % parts.align != 0) & ~free & ~parts.hanging)
        if len(crooked):
            part = int(crooked[0])
            raise FormatError(
                self.source.name,
                f"{self._name(part, name_of_span)} does not start at a multiple of {parts.align[part]}",
                offset=int(parts.start[part]),
                hint="another `align` in the layout",
            )

    def _name(self, part: int, name_of_span: Callable[[int], str]) -> str:
        if self.parts.fixed[part] >= 0:
            return self.fixed[int(self.parts.fixed[part])].name
        if self.parts.record[part] >= 0 and self.inline is not None:
            return f"{self.inline.block.block.name}[{int(self.parts.record[part])}]"
        return name_of_span(int(self.parts.span[part]))

    # placing

    def place(self, sizes: Mapping[str, int]) -> Placed:
        """Go through the parts in order, with these sizes of blocks and wrapped parts."""
        self.sizes, self.placed, parts = sizes, Placed(), self.parts
        self.placed.span_start = self.contents.spans[:, 0].copy()
        stops, last = self._stops(), self._last_content()
        anchored = bool(self.contents.anchors) and bool((parts.span >= 0).any())
        if anchored:
            last = len(parts.start)  # each has a place of its own
        if stops and last < 0:
            self._place_loose()
        for number, stop in enumerate(stops):
            until = stops[number + 1] if number + 1 < len(stops) else len(parts.start)
            if anchored and parts.span[stop] >= 0 and not (parts.span[:stop] >= 0).any():
                self._place_anchored(-1)
            self._place_part(stop, until)
            if anchored and parts.span[until - 1] >= 0:
                self._place_anchored(int(parts.span[until - 1]))
            if stop <= last < until:
                self._place_loose()
        if not stops and not anchored:
            self._place_loose()
        end = int((parts.start + parts.size).max()) if len(parts.start) else 0
        self._between(end, self.source.size, *self.filled)
        self._align(*self.filled)
        return self.placed

    def _last_content(self) -> int:
        """The part behind which new contents go: the last content, or what stands before where content would."""
        parts = self.parts
        contents = np.flatnonzero(parts.fixed < 0)
        if len(contents):
            return int(contents[-1])
        if self.inline is not None:
            return int(np.searchsorted(parts.start, self.inline.block.start, "left")) - 1
        last = len(parts.start) - 1  # but what is found from the end of the file stays behind
        while last >= 0 and _stays_last(self.fixed[int(parts.fixed[last])]):
            last -= 1
        return last

    def _stops(self) -> list[int]:
        """Parts that must be looked at by themselves; those between two of them move with the first."""
        parts = self.parts
        if self.each or self.contents.keyed:
            return list(range(len(parts.start)))
        odd = (
            (parts.fixed >= 0)
            | (parts.new >= 0)
            | parts.gone
            | parts.hanging
            | np.isin(parts.span, list(self.contents.anchors))
        )
        odd[1:] |= odd[:-1].copy()
        if len(np.unique(parts.align)) > 1:  # what moves together must have the same alignment
            odd[1:] |= parts.align[1:] != parts.align[:-1]
        if len(odd):
            odd[0] = True
        return [int(index) for index in np.flatnonzero(odd)]

    def _place_part(self, part: int, until: int) -> None:
        """Place one part, and with it the unchanged contents up to `until`."""
        parts, placed = self.parts, self.placed
        start, end = int(parts.start[part]), int(parts.start[until - 1] + parts.size[until - 1])
        before = int(parts.start[part - 1] + parts.size[part - 1]) if part else 0
        align, fill = int(parts.align[part]), int(parts.fill[part])
        if parts.hanging[part] and parts.new[part] < 0:
            if not parts.gone[part]:
                placed.span_start[int(parts.span[part])] = placed.size + -placed.size % align
            return
        self._between(before, start, align, fill)
        if parts.record[part] >= 0:
            align = self._record_align()
        if parts.gone[part]:
            if self.pinned:
                self._align(align, fill)
                self._fill_hole(end - start, fill)
            return
        self._align(align, fill)
        begun = placed.size
        row, span = int(parts.record[part]), int(parts.span[part])
        if row >= 0 and self.inline is not None:
            placed.starts.setdefault(self.inline.block.block.name, placed.size)
        if parts.fixed[part] >= 0:
            self._place_fixed(self.fixed[int(parts.fixed[part])])
        elif row >= 0 and self.inline is not None and (self.each or parts.new[part] >= 0):
            self._place_record(int(self.inline.new_row[row]))
        elif parts.new[part] >= 0:
            self._place_new(int(parts.new[part]))
            if self.pinned:
                self._fill_hole(end - placed.size, fill)
        elif self.contents.keyed and span >= 0 and (placed.size != start or self.contents.rekeyed[span]):
            placed.span_start[span] = placed.size
            placed.steps.append(Moved(span, placed.size))
            placed.size += end - start
        else:
            spans = parts.span[part:until]
            placed.span_start[spans[spans >= 0]] += placed.size - start
            self._copy(start, end - start)
        if parts.fixed[part] < 0 and row < 0:
            placed.hold(begun, placed.size)

    def _between(self, before: int, start: int, align: int, fill: int) -> None:
        """Keep what lies between two parts, unless it is the padding that the layout would put there."""
        size = start - before
        if size and not (size < align and self.source.read(before, size) == bytes([fill]) * size):
            self._keep(before, start)

    def _keep(self, start: int, end: int) -> None:
        if end > start:
            self._copy(start, end - start)

    def _copy(self, offset: int, size: int) -> None:
        steps = self.placed.steps
        last = steps[-1] if steps else None
        if isinstance(last, Piece) and last.source is self.source and last.offset + last.size == offset:
            steps[-1] = Piece(source=self.source, offset=last.offset, size=last.size + size)
        else:
            steps.append(Piece(source=self.source, offset=offset, size=size))
        self.placed.size += size

    def _align(self, align: int, fill: int) -> None:
        missing = -self.placed.size % align
        if missing:
            self.placed.steps.append(Piece.of(bytes([fill]) * missing))
            self.placed.size += missing

    def _fill_hole(self, size: int, fill: int) -> None:
        if size > 0:
            self.placed.steps.append(Piece.of(bytes([fill]) * size))
            self.placed.size += size

    def _place_fixed(self, fixed: Fixed) -> None:
        if fixed.at is not None and fixed.at.fixed and fixed.at.offset != self.placed.size:
            raise FormatError(
                self.source.name,
                f"{fixed.name} must stand at {fixed.at.offset:#x}, what comes before it now ends at "
                f"{self.placed.size:#x}",
            )
        self.placed.starts[fixed.name] = self.placed.size
        self.placed.steps.append(WholePart(fixed.name))
        self.placed.size += self.sizes[fixed.name]

    def _record_align(self) -> int:
        """The alignment of the next record of a row: the first stands where the layout says, wherever that is."""
        assert self.inline is not None
        block = self.inline.block.block
        first = block.name not in self.placed.starts
        return 1 if first and block.at is not None and block.at.fixed else block.align

    def _place_record(self, row: int) -> None:
        assert self.inline is not None
        self.placed.steps.append(RecordOf(row))
        self.placed.size += self.inline.size(row)

    def _place_new(self, index: int) -> None:
        self.placed.new_start[index] = self.placed.size
        self.placed.steps.append(New(index))
        self.placed.size += self.sizes[f"new {index}"]
        self.placed.hold(self.placed.new_start[index], self.placed.size)

    def _place_anchored(self, span: int) -> None:
        """The new contents that go behind a span (or, with -1, before all), in the order of their records."""
        for (index, align, fill), anchor in zip(self.contents.loose, self.contents.anchors, strict=True):
            if anchor == span:
                self._align(align, fill)
                self._place_new(index)

    def _place_loose(self) -> None:
        """New contents without a place of their own go behind the last content."""
        self.placed.room = self.placed.size
        for number, (index, align, fill) in enumerate(self.contents.loose):
            if self.inline is not None:
                self._align(self._record_align(), self.inline.block.block.fill)
                self.placed.starts.setdefault(self.inline.block.block.name, self.placed.size)
                self._place_record(self.inline.first_loose + number)
            self._align(align, fill)
            self._place_new(index)
        self.placed.inline_end = self.placed.size


def _stays_last(fixed: Fixed) -> bool:
    """Whether a part goes on until the end, or is found from there."""
    return fixed.last or (fixed.at is not None and (fixed.at.from_end or bool(fixed.at.mark)))


def _stack(ours: Array, of_fixed: list[int], of_records: Array) -> Array:
    """What is told of contents, blocks and records, one behind the other."""
    return np.concatenate([ours, np.array(of_fixed, np.int64), of_records]).astype(np.int64)
