"""Writing a file by its layout: gather the parts, place them, measure, seal, emit.

The parts of a file are its blocks and its contents (bytes that several entries share are one part), in the
order in which they lie. What lies between two parts is filling when it is what the layout would put there;
otherwise nobody knows what it is, and it is kept in front of the part that follows it.

Nothing here takes a place, a count or a seal from a caller: they are computed from what is written.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.errors import FormatError
from volvex.layout import check
from volvex.layout.edits import Edit, NewContent, Piece, Plan
from volvex.layout.kinds import archive as facts
from volvex.layout.model import Block, Field, Measure, Raw
from volvex.layout.reading import BlockRead, Reading, block_seals, seal_value
from volvex.layout.records import Array, Column, Texts, fit


@dataclass
class _Parts:
    """All parts in the order of the file, as columns. `new` is the index of what replaces a content, or -1."""

    start: Array
    size: Array
    align: Array
    fill: Array
    block: Array  # index into the blocks, -1 for content
    record: Array  # the entry whose record it is, when content follows each record; -1 otherwise
    new: Array  # index into the new contents, -1: as it was
    gone: Array  # whether the part is left out


def plan(reading: Reading, edit: Edit, each: bool = False) -> Plan:
    """How the file is written with the changes of `edit`.

    With `each`, every content is placed by itself and every filling made anew, which proves the layout;
    otherwise stretches in which nothing changes are moved as they are, which is fast.
    """
    return _Planner(reading, edit, each).plan()


class _Planner:
    def __init__(self, reading: Reading, edit: Edit, each: bool) -> None:
        assert reading.entries is not None
        self.reading, self.edit, self.each = reading, edit, each
        self.entries = reading.entries
        self.source = reading.source
        self.blocks = [block for block in reading.blocks.values() if block.ends is None]
        self.inline = next((block for block in reading.blocks.values() if block.ends is not None), None)
        self.layout = reading.layout
        self.contents = [*edit.replaced.values(), *(one.content for one in edit.added)]
        self.part_of_row = self._spans()
        self.kept_rows = np.array(
            [row for row in range(len(self.entries)) if row not in edit.removed]
            if edit.removed
            else range(len(self.entries)),
            dtype=np.int64,
        )

    # parts

    def _spans(self) -> Array:
        """Which stretch of stored bytes each entry has: entries with the same start and size share one."""
        pairs = np.stack([self.entries.start, self.entries.stored], axis=1)
        self.spans, index = (
            np.unique(pairs, axis=0, return_inverse=True) if len(pairs) else (pairs, np.zeros(0, np.int64))
        )
        return index.reshape(-1)

    def _span_changes(self) -> tuple[Array, Array]:
        """For each span: the new content in its place (or -1), and whether nothing of it remains."""
        new = np.full(len(self.spans), -1, np.int64)
        users = np.bincount(self.part_of_row, minlength=len(self.spans))
        self.new_of_row: dict[int, int] = {}
        self.loose: list[int] = []  # new contents whose span lives on, for another entry
        for index, row in enumerate(self.edit.replaced):
            span = int(self.part_of_row[row])
            users[span] -= 1
            self.new_of_row[row] = index
            if users[span] == 0 and not self._floats(span):
                new[span] = index
            else:
                self.loose.append(index)
        for row in self.edit.removed:
            users[int(self.part_of_row[row])] -= 1
        return new, users <= 0

    def _floats(self, span: int) -> bool:
        """Whether a span is a mere number: empty, and not where a content could be placed."""
        start, size = self.spans[span]
        return bool(size == 0 and (start == 0 or start % self.layout.content.align))

    def _sorted_parts(self) -> _Parts:
        new, gone = self._span_changes()
        content = self.layout.content
        empty = (self.spans[:, 1] == 0) & ((self.spans[:, 0] == 0) | (self.spans[:, 0] % content.align != 0))
        real = np.flatnonzero(~empty)
        count, blocks, inline = len(real), self.blocks, self.inline
        records = np.arange(len(inline.starts)) if inline is not None else np.zeros(0, np.int64)
        none = np.zeros(0, np.int64)
        start = _stack(self.spans[real, 0], [block.start for block in blocks], inline.starts if inline else none)
        size = _stack(
            self.spans[real, 1],
            [len(block.data) for block in blocks],
            inline.ends - inline.starts if inline and inline.ends is not None else none,
        )
        order = np.lexsort((start + size, start))
        self.index_of_span = np.full(len(self.spans), -1, np.int64)
        place = np.empty(len(order), np.int64)
        place[order] = np.arange(len(order))
        self.index_of_span[real] = place[:count]

        def column(ours: Array, of_blocks: list[int], of_records: Array | int) -> Array:
            return _stack(ours, of_blocks, np.broadcast_to(of_records, len(records)))[order]

        ones = np.ones(count, np.int64)
        return _Parts(
            start[order], size[order],
            column(ones * content.align, [one.block.align for one in blocks], inline.block.align if inline else 1),
            column(ones * content.fill, [one.block.fill for one in blocks], inline.block.fill if inline else 0),
            column(-ones, list(range(len(blocks))), -1), column(-ones, [-1] * len(blocks), records),
            column(new[real], [-1] * len(blocks), new[self.part_of_row] if inline else -1),
            column(gone[real] & (new[real] < 0), [0] * len(blocks), self._removed() if inline else 0).astype(bool),
        )  # fmt: skip

    def _removed(self) -> Array:
        removed = np.zeros(len(self.entries), np.int64)
        removed[list(self.edit.removed)] = 1
        return removed

    def _check_parts(self, parts: _Parts) -> None:
        """Parts must not overlap, and must stand where the layout would put them."""
        ends = np.maximum.accumulate(parts.start + parts.size)
        overlap = np.flatnonzero(parts.start[1:] < ends[:-1])
        if len(overlap):
            part = int(overlap[0]) + 1
            raise FormatError(self.source.name, f"{self._name(parts, part)} overlaps what lies before it, which ends at {ends[part - 1]:#x}",
                              offset=int(parts.start[part]), hint="a fresh copy of the file, or another layout")  # fmt: skip
        told = [index for index, block in enumerate(self.blocks) if block.block.at is not None]
        crooked = np.flatnonzero((parts.start % parts.align != 0) & ~np.isin(parts.block, told))
        if len(crooked):
            part = int(crooked[0])
            raise FormatError(self.source.name, f"{self._name(parts, part)} does not start at a multiple of {parts.align[part]}",
                              offset=int(parts.start[part]), hint="another `align` in the layout")  # fmt: skip

    def _name(self, parts: _Parts, part: int) -> str:
        if parts.block[part] >= 0:
            return self.blocks[int(parts.block[part])].block.name
        if parts.record[part] >= 0:
            return f"{self.reading.home.block.name}[{int(parts.record[part])}]"
        row = int(np.flatnonzero(self.index_of_span[self.part_of_row] == part)[0])
        name = self.entries.names.raw(row).decode("utf-8", "backslashreplace")
        return f"the content of {name!r} ({self.reading.home.block.name}[{row}])"

    # placing

    def plan(self) -> Plan:
        parts = self._sorted_parts()
        self._check_parts(parts)
        self.columns = {name: dict(block.columns) for name, block in self.reading.blocks.items()}
        self._choose_rows()
        self._place(parts)
        self._check_ends()
        self._fill_entries()
        self._sort()
        data = self._write_blocks()
        pieces = [self._made(piece, data) for piece in self.pieces]
        return Plan([piece for piece in pieces if piece.size], self.position)

    def _made(self, piece: Piece | str | int, data: dict[str, bytes]) -> Piece:
        """A piece for the name of a block, or for the row of a record."""
        if isinstance(piece, str):
            return Piece.of(data[piece])
        return Piece.of(self._record(piece)) if isinstance(piece, int) else piece

    def _record(self, row: int) -> bytes:
        """One record of those that are followed by their content; its row is of the new directory."""
        assert self.inline is not None
        columns = self.columns[self.inline.block.name]
        return self.inline.records.write({name: _take(column, np.array([row])) for name, column in columns.items()})

    def _choose_rows(self) -> None:
        """The directory's columns without what is removed, and with rows for what is added."""
        if not self.edit.removed and not self.edit.added:
            return
        rows = np.concatenate([self.kept_rows, np.array([one.like for one in self.edit.added], np.int64)])
        for block in self.reading.entry_blocks():
            columns = self.columns[block.block.name]
            self.columns[block.block.name] = {name: _take(column, rows) for name, column in columns.items()}
        if self.edit.added:
            self._add_names()

    def _add_names(self) -> None:
        """Names for the rows that are added, in the directory or behind what is in the pool."""
        added, found = [one.name for one in self.edit.added], self.reading.fact(facts.NAME)
        if found is not None:
            raws = self._texts(*found).raws()
            self._set_texts(*found, [*(raws[row] for row in self.kept_rows.tolist()), *added])
            return
        pool, place = self.reading.pool(), self.reading.fact(facts.NAME_AT)
        assert pool is not None and place is not None
        places, (home, one) = [], place
        end = pool[0].records.size(self.columns[pool[0].block.name])
        for name in added:
            places.append(end)
            end += len(name) + pool[0].records.least  # its length, or the zero behind it
        self._set_texts(*pool, [*self._texts(*pool).raws(), *added])
        stored = fit(np.array(places, dtype=object), one, f"{self.source.name}, {home.block.name}")
        column: Any = self.columns[home.block.name][one.name]
        self.columns[home.block.name][one.name] = np.concatenate([column[: len(self.kept_rows)], stored])

    def _texts(self, block: BlockRead, one: Field) -> Texts:
        """A column of texts as it was read."""
        column = block.columns[one.name]
        assert isinstance(column, Texts)
        return column

    def _set_texts(self, block: BlockRead, one: Field, values: list[bytes]) -> None:
        self.columns[block.block.name][one.name] = Texts.of(values, self._texts(block, one).encoding)

    def _place(self, parts: _Parts) -> None:
        """Go through the parts in order; `pieces` and the new starts come out."""
        self.pieces: list[Piece | str | int] = []
        self.position = 0
        self.block_start: dict[str, int] = {}
        self.content_start: dict[int, int] = {}
        self.new_start = parts.start.copy()
        stops = self._stops(parts)
        self.new_row = np.cumsum(~np.isin(np.arange(len(self.entries)), list(self.edit.removed))) - 1
        last = self._last_content(parts)
        for number, stop in enumerate(stops):
            until = stops[number + 1] if number + 1 < len(stops) else len(parts.start)
            self._place_part(parts, stop, until)
            if stop <= last < until:
                self._place_loose()
        if not stops:
            self._place_loose()
        end = int((parts.start + parts.size).max()) if len(parts.start) else 0
        self._keep(end, self.source.size)

    def _last_content(self, parts: _Parts) -> int:
        """The part behind which new contents go: the last content, or what stands before where content would."""
        contents = np.flatnonzero(parts.block < 0)
        if len(contents):
            return int(contents[-1])
        if self.inline is not None:
            return int(np.searchsorted(parts.start, self.inline.start, "left")) - 1
        return len(parts.start) - 1

    def _stops(self, parts: _Parts) -> list[int]:
        """Parts that must be looked at by themselves; those between two of them move with the first."""
        if self.each:
            return list(range(len(parts.start)))
        odd = (parts.block >= 0) | (parts.new >= 0) | parts.gone
        odd[1:] |= odd[:-1].copy()
        if len(odd):
            odd[0] = True
        return [int(index) for index in np.flatnonzero(odd)]

    def _place_part(self, parts: _Parts, part: int, until: int) -> None:
        """Place one part, and with it the unchanged contents up to `until`."""
        start, end = int(parts.start[part]), int(parts.start[until - 1] + parts.size[until - 1])
        before = int(parts.start[part - 1] + parts.size[part - 1]) if part else 0
        align, fill = int(parts.align[part]), int(parts.fill[part])
        self._between(before, start, align, fill)
        if parts.gone[part]:
            return
        self._align(align, fill)
        row = int(parts.record[part])
        if row >= 0 and self.inline is not None:
            self.block_start.setdefault(self.inline.block.name, self.position)
        if parts.block[part] >= 0:
            self._place_block(self.blocks[int(parts.block[part])])
        elif row >= 0 and (self.each or parts.new[part] >= 0):
            self._place_record(int(self.new_row[row]))
        elif parts.new[part] >= 0:
            self._place_new(int(parts.new[part]))
        else:
            self.new_start[part:until] += self.position - start
            self._copy(start, end - start)

    def _between(self, before: int, start: int, align: int, fill: int) -> None:
        """Keep what lies between two parts, unless it is the filling that the layout would put there."""
        size = start - before
        if size and not (size < align and self.source.read(before, size) == bytes([fill]) * size):
            self._keep(before, start)

    def _keep(self, start: int, end: int) -> None:
        if end > start:
            self._copy(start, end - start)

    def _copy(self, offset: int, size: int) -> None:
        last = self.pieces[-1] if self.pieces else None
        if isinstance(last, Piece) and last.source is self.source and last.offset + last.size == offset:
            self.pieces[-1] = Piece(source=self.source, offset=last.offset, size=last.size + size)
        else:
            self.pieces.append(Piece(source=self.source, offset=offset, size=size))
        self.position += size

    def _align(self, align: int, fill: int) -> None:
        missing = -self.position % align
        if missing:
            self.pieces.append(Piece.of(bytes([fill]) * missing))
            self.position += missing

    def _place_block(self, block: BlockRead) -> None:
        name = block.block.name
        at = block.block.at
        if at is not None and at.fixed and at.offset != self.position:
            raise FormatError(
                self.source.name,
                f"{name} must stand at {at.offset:#x}, what comes before it now ends at {self.position:#x}",
            )
        self.block_start[name] = self.position
        self.pieces.append(name)
        self.position += block.records.size(self.columns[name])

    def _place_record(self, row: int) -> None:
        self.pieces.append(row)
        self.position += len(self._record(row))  # its size depends on its texts alone, which are known

    def _place_new(self, index: int) -> None:
        content = self.contents[index]
        self.content_start[index] = self.position
        self.pieces.append(Piece(source=content.source, offset=content.offset, size=content.stored))
        self.position += content.stored

    def _place_loose(self) -> None:
        """New contents without a place of their own go behind the last content."""
        added = range(len(self.edit.replaced), len(self.contents))
        for number, index in enumerate((*self.loose, *added)):
            if self.inline is not None:
                self._align(self.inline.block.align, self.inline.block.fill)
                self.block_start.setdefault(self.inline.block.name, self.position)
                self._place_record(len(self.kept_rows) + number - len(self.loose))
            self._align(self.layout.content.align, self.layout.content.fill)
            self._place_new(index)
        self.inline_end = self.position

    def _check_ends(self) -> None:
        """Blocks that are found from the end of the file, or behind another one, stand there still."""
        for block in self.blocks:
            at, start = block.block.at, self.block_start[block.block.name]
            if at is not None and at.from_end and start != self.position - at.offset:
                raise FormatError(self.source.name, f"{block.block.name} must stand {at.offset} bytes before the end, "
                                                    f"it now stands {self.position - start} before it")  # fmt: skip
            if at is not None and at.after:
                end = self._end(at.after)
                if start != end + -end % block.block.align:
                    raise FormatError(
                        self.source.name, f"{block.block.name} would no longer stand right behind {at.after}"
                    )

    def _end(self, name: str) -> int:
        """Where a block ends now."""
        if self.inline is not None and self.inline.block.name == name:
            return self.inline_end
        return self.block_start[name] + self.reading.blocks[name].records.size(self.columns[name])

    # filling in

    def _fill_entries(self) -> None:
        """The facts and seals of all entries, from where and how they are stored now."""
        rows = self.kept_rows
        span = self.index_of_span[self.part_of_row[rows]]
        start = (
            np.where(span >= 0, self.new_start[span], self.entries.start[rows])
            if len(self.new_start)
            else self.entries.start[rows]
        )
        start = np.concatenate([start, np.zeros(len(self.edit.added), np.int64)])
        place = {int(row): index for index, row in enumerate(rows)} if self.edit.removed else None
        changed: list[tuple[int, int]] = [
            (row if place is None else place[row], new) for row, new in self.new_of_row.items()
        ]
        changed += [(len(rows) + number, len(self.edit.replaced) + number) for number in range(len(self.edit.added))]
        for row, new in changed:
            start[row] = self.content_start[new]
        self._set(facts.START, start)
        self._set_changed(facts.STORED, changed, lambda content: content.stored)
        self._set_changed(facts.SIZE, changed, lambda content: content.size)
        self._set_changed(facts.CODEC, changed, self._codec_number)
        for block, one, meaning in self.reading.entry_seals():
            key = (meaning.algorithm, meaning.part)
            self._store(block.block.name, one, [(row, self.contents[new].seals[key]) for row, new in changed])

    def _codec_number(self, content: NewContent) -> int:
        found = self.reading.fact(facts.CODEC)
        table: Any = getattr(found[1].meaning, "table", ()) if found else ()
        return int(next(number for number, name in table if name == content.codec))

    def _set(self, what: str, values: Array) -> None:
        found = self.reading.fact(what)
        if found is not None:
            home, one = found[0].block.name, found[1]
            self.columns[home][one.name] = fit(values, one, f"{self.source.name}, {home}")

    def _set_changed(self, what: str, changed: list[tuple[int, int]], value: Any) -> None:
        found = self.reading.fact(what)
        if found is not None:
            self._store(found[0].block.name, found[1], [(row, value(self.contents[new])) for row, new in changed])

    def _store(self, home: str, one: Field, values: list[tuple[int, int]]) -> None:
        """Put numbers into a column of the directory."""
        if not values:
            return
        stored = self._stored(one, [value for _, value in values], home)
        column: Any = self.columns[home][one.name].copy()  # type: ignore[union-attr]
        column[[row for row, _ in values]] = stored
        self.columns[home][one.name] = column

    def _sort(self) -> None:
        """Records in the order that the game searches them in; only new ones can be out of it."""
        home = self.reading.home.block
        if home.sorted_by is not None and self.edit.added:
            columns = self.columns[home.name]
            order = sorting(columns[home.sorted_by])
            self.columns[home.name] = {name: _take(column, order) for name, column in columns.items()}

    # blocks

    def _write_blocks(self) -> dict[str, bytes]:
        """The blocks' bytes: measurements first, then the seals, each after what it covers."""
        for home in self.layout.blocks:
            for one in home.fields:
                if isinstance(one.meaning, Measure):
                    self._put(home, one, self._measure(one.meaning))
        data: dict[str, bytes] = {}
        for block in check.seal_order(self.layout):
            if block.inline:
                continue
            data[block.name] = self._write_block(block, data)
        return data

    def _write_block(self, block: Block, done: dict[str, bytes]) -> bytes:
        records = self.reading.blocks[block.name].records
        seals = [(one, meaning) for home, one, meaning in block_seals(self.layout) if home is block]
        for one, meaning in seals:
            self._put(
                block, one, 0 if meaning.part == block.name else seal_value(meaning.algorithm, done[meaning.part])
            )
        own = [(one, meaning) for one, meaning in seals if meaning.part == block.name]
        data = records.write(self.columns[block.name])
        for one, meaning in own:
            self._put(block, one, seal_value(meaning.algorithm, data))
        return records.write(self.columns[block.name]) if own else data

    def _measure(self, meaning: Measure) -> int:
        if meaning.part == "file":
            return self.position
        if meaning.what == "start":
            return self.block_start.get(meaning.part, self.position)
        columns = self.columns[meaning.part]
        if meaning.what == "count":
            return len(next(iter(columns.values())))
        return self.reading.blocks[meaning.part].records.size(columns)

    def _put(self, block: Block, one: Field, value: int) -> None:
        """Set a field of a block that is a single record."""
        self.columns[block.name][one.name] = self._stored(one, [value], block.name)

    def _stored(self, one: Field, values: list[int], block: str) -> Array:
        """Numbers as a field stores them; a digest in bytes has its highest byte first."""
        if isinstance(one.type, Raw):
            size = one.type.size
            return np.frombuffer(b"".join(value.to_bytes(size, "big") for value in values), f"V{size}")
        return fit(np.array(values, dtype=object), one, f"{self.source.name}, {block}")


def _stack(ours: Array, of_blocks: list[int], of_records: Array) -> Array:
    """What is told of contents, blocks and records, one behind the other."""
    return np.concatenate([ours, np.array(of_blocks, np.int64), of_records]).astype(np.int64)


def sorting(column: Column) -> Array:
    """The order in which a column ascends; equal ones stay as they were."""
    if isinstance(column, Texts):
        raws = column.raws()
        return np.array(sorted(range(len(raws)), key=raws.__getitem__), dtype=np.int64)
    return np.argsort(column, kind="stable")


def _take(column: Column, rows: Array) -> Column:
    return column.take(rows) if isinstance(column, Texts) else column[rows]
