"""The directory after an edit: which records it has, in which order, and what they say of entries and folders."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from volvex.errors import RefusedError
from volvex.layout.checksums import name_checksum
from volvex.layout.columns import AllColumns, Array, Columns, Texts, rows_of, sorting, taken
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import (
    Block,
    Field,
    IntegerType,
    Measure,
    Number,
    NumberChange,
    Raw,
    RecordsOf,
    is_bare,
    pooled_length,
)
from volvex.layout.read.blocks import BlockRead, Reading, is_relative, upper_field
from volvex.layout.read.names import entry_folders, has_ranges
from volvex.layout.read.own_numbers import own_numbers, stores_row_end
from volvex.layout.records.numbers import encode_numbers
from volvex.layout.write.computed import Computing
from volvex.layout.write.contents import ContentPlan
from volvex.layout.write.entry_facts import EntryFacts
from volvex.layout.write.names import new_names
from volvex.layout.write.place import Placed
from volvex.layout.write.plan import Edit

Settle = Callable[[Field], Field]


class Directory:
    """Fills the columns of all blocks for each round of placing."""

    def __init__(self, reading: Reading, edit: Edit, contents: ContentPlan, columns: AllColumns | None = None) -> None:
        self.reading, self.edit, self.contents = reading, edit, contents
        self.names = new_names(reading, [added.name for added in edit.added], [added.like for added in edit.added])
        self.rows = np.concatenate([contents.kept_rows, np.array([added.like for added in edit.added], np.int64)])
        self.entry_blocks = {block.block.name for block in reading.entry_blocks()}
        self._relative: list[tuple[BlockRead, Field, Array]] = []
        self.placed: tuple[Array, Array] = (
            contents.entries.start,
            contents.entries.start,
        )  # in the order of the records
        self.order: Array | None = None
        self._begun = self._chosen() if columns is None else columns
        contents.records = self._begun
        self.folders = self._folders()  # of each entry, when there are any
        self.order = self._ordered()
        contents.order(self.order)
        self.touched = bool(edit.added or edit.removed)

    # which records there are

    def columns(self) -> AllColumns:
        """The columns as they are before anything is placed; in them the records of an entry stand in their order."""
        made = {name: dict(columns) for name, columns in self._begun.items()}
        return self._in_order(made)

    def _chosen(self) -> AllColumns:
        """The columns without what is removed, and with rows for what is added."""
        made: AllColumns = {name: dict(block.columns) for name, block in self.reading.blocks.items()}
        if not self.edit.removed and not self.edit.added:
            return made
        for name in self.entry_blocks:
            made[name] = {text: taken(column, self.rows) for text, column in made[name].items()}
        if self.edit.added:
            self._add_names(made)
        return made

    def _add_names(self, columns: AllColumns) -> None:
        """Names for the rows that are added, in the directory or behind what is in the pool."""
        texts = [name.text for name in self.names]
        named, pool, place = (
            self.reading.attributes(attributes.NAME),
            self.reading.pool(),
            self.reading.attribute(attributes.NAME_AT),
        )
        if named:
            likes = self.rows[len(self.contents.kept_rows) :]
            for block, field in named:  # of several the one that the record has, as the one that it is like
                there = block.present(field)[likes]
                self._extend(
                    columns,
                    block,
                    field,
                    [text if one else b"" for text, one in zip(texts, there.tolist(), strict=True)],
                )
        elif pool is not None and place is not None:
            home, bare = pool[0], is_bare(pool[1])
            places, end = [], home.records.size(columns[home.block.name])
            for text in texts:
                places.append(end)
                end += len(text) + (0 if bare else home.records.least)  # its length, or the zero behind it
            if bare:
                self._lengthen(columns, pool, place, texts)
            else:
                self._set_texts(columns, *pool, [*self._texts(columns, *pool).raws(), *texts])
            self.put(columns, place[0], self.reading.settled(place[1]), np.array(places, object), self._added())
        extension = self.reading.attribute(attributes.EXTENSION)
        if extension is not None and self.names and self.names[0].extension is not None:
            self._extend(columns, *extension, [name.extension or b"" for name in self.names])
        for what in self.names[0].numbers:  # what makes up a name is the same for all
            numbers = np.array([name.numbers[what] for name in self.names], object)
            for block, one in self.reading.attributes(what):
                self.put(columns, block, self.reading.settled(one), numbers, self._added())
        for block, one in self.reading.attributes(
            attributes.ID
        ):  # no two entries have the same: new ones go on counting
            known = self.reading.decode_numbers(block, one)
            first = int(known.max()) + 1 if len(known) else 0
            self.put(
                columns,
                block,
                self.reading.settled(one),
                np.arange(first, first + len(texts)).astype(object),
                self._added(),
            )
        for block, one, meaning in self.reading.entry_checksums():
            if meaning.part in attributes.NAMES:
                values = [name_checksum(meaning, text) for text in texts]
                self.put_checksums(columns, block, one, values, self._added())
        Computing(self.reading, self, self.reading.settled, lambda what, part: 0).put_sorting(columns)

    def _lengthen(
        self,
        columns: AllColumns,
        pool: tuple[BlockRead, Field],
        place: tuple[BlockRead, Field],
        texts: Sequence[bytes],
    ) -> None:
        """Put names behind what is in a pool of bytes, and how long they are beside where they start."""
        home, length = columns[pool[0].block.name], pooled_length(place[0].block, place[1])
        column: Any = home[pool[1].name]
        home[pool[1].name] = np.concatenate([column, np.frombuffer(b"".join(texts), column.dtype)])
        assert length is not None
        sizes = np.array([len(text) for text in texts], object)
        self.put(columns, place[0], self.reading.settled(length), sizes, self._added())

    def _added(self) -> Array:
        """The rows of the new directory that are added."""
        return np.arange(len(self.contents.kept_rows), len(self.rows))

    def _extend(self, columns: AllColumns, block: BlockRead, field: Field, texts: list[bytes]) -> None:
        raws = self._texts(columns, block, field).raws()
        self._set_texts(columns, block, field, [*raws[: len(self.contents.kept_rows)], *texts])

    def _texts(self, columns: AllColumns, block: BlockRead, field: Field) -> Texts:
        column = columns[block.block.name][field.name]
        assert isinstance(column, Texts)
        return column

    def _set_texts(self, columns: AllColumns, block: BlockRead, field: Field, values: list[bytes]) -> None:
        columns[block.block.name][field.name] = Texts.of(values, self._texts(columns, block, field).encoding)

    # in which order

    def _folders(self) -> Array | None:
        """The folder of each entry of the new directory, before it is ordered."""
        held = self._held()
        if (
            held is not None and held.rows and held.owners is not None
        ):  # what is new goes where that is which it is like
            kept = held.owners[self.contents.kept_rows]
            new = [held.owners[one.like] if one.like >= 0 else len(held.rows) - 1 for one in self.edit.added]
            return np.concatenate([kept, np.array(new, np.int64)])
        before = entry_folders(self.reading)
        if before is None:
            return None
        return np.concatenate(
            [before[self.contents.kept_rows], np.array([name.folder or 0 for name in self.names], np.int64)]
        )

    def _ordered(self) -> Array | None:
        """The order of the new directory's records, where it is not that in which they were chosen."""
        if not self.edit.added:
            return None
        if any(added.after is not None for added in self.edit.added):
            return self._chosen_order()
        if self.folders is not None and (has_ranges(self.reading) or self._held() is not None):
            return self._by_folder()
        home = next((block.block for block in self.reading.entry_blocks() if block.block.sorted_by), None)
        if by_start(self.reading):  # what is new lies behind all else
            return None
        return sorting(self._begun[home.name][home.sorted_by or ""]) if home is not None else None

    def _by_folder(self) -> Array:
        """The order in which the entries of a folder stay together, sorted where its records are."""
        home = next((block.block for block in self.reading.entry_blocks() if block.block.sorted_by), None)
        ranks = self._ranks()
        if home is None:
            return np.argsort(ranks, kind="stable")
        assert self.folders is not None
        firsts = np.full(
            int(self.folders.max()) + 1, np.inf
        )  # by where a folder's entries begin, then by what they are sorted
        np.minimum.at(firsts, self.folders, ranks)
        return np.lexsort((np.argsort(sorting(self._begun[home.name][home.sorted_by or ""])), firsts[self.folders]))

    def _chosen_order(self) -> Array:
        """The order in which new records stand behind those that their author named; RefusedError where the format
        gives it."""
        blocks = self.reading.entry_blocks()
        why = (
            "its records are sorted"
            if any(block.block.sorted_by for block in blocks)
            else "each of its records is followed by its content"
            if any(block.ends is not None for block in blocks)
            else "its records stand in the order of their folders"
            if has_ranges(self.reading) or self._held() is not None
            else ""
        )
        if why:
            raise RefusedError(
                f"{self.reading.source.name}: the place of a new entry cannot be chosen, since {why}",
                "leaving --after out",
            )
        ranks = np.arange(len(self.rows), dtype=float)
        for number, added in enumerate(self.edit.added, len(self.contents.kept_rows)):
            if added.after is not None:  # when that one is left out, behind the nearest before it
                ranks[number] = np.searchsorted(self.contents.kept_rows, added.after, "right") - 0.5
        return np.argsort(ranks, kind="stable")

    def _held(self) -> BlockRead | None:
        """The block of entries whose records lie within those of their folders."""
        return next((block for block in self.reading.entry_blocks() if block.owners is not None), None)

    def _ranks(self) -> Array:
        """A number for each row by which the rows of a folder stay together, new ones behind the others."""
        assert self.folders is not None
        count = len(self.contents.kept_rows)
        if self._held() is not None:
            return self.folders.astype(float)
        ranks = np.concatenate([np.arange(count, dtype=float), np.zeros(len(self.names))])
        first = self.reading.attribute(attributes.FIRST_FILE)
        assert first is not None
        firsts = self.reading.decode_numbers(*first)
        before = np.searchsorted(self.contents.kept_rows, firsts)  # where a folder without entries would have them
        last = {int(folder): row for row, folder in enumerate(self.folders[:count])}
        for row, folder in enumerate(self.folders[count:].tolist(), count):
            ranks[row] = last[folder] + 0.5 if folder in last else float(before[folder]) - 0.5
        return ranks

    def _in_order(self, columns: AllColumns) -> AllColumns:
        if self.order is not None:
            for name in self.entry_blocks:
                columns[name] = {text: taken(column, self.order) for text, column in columns[name].items()}
        return columns

    # what they say

    def filled(self, placed: Placed, settle: Settle) -> AllColumns:
        """The columns with the facts and checksums of all entries, from where and how they are stored now."""
        columns = {name: dict(found) for name, found in self._begun.items()}
        changed = self._changed()
        self._put_starts(columns, placed, settle, changed)
        rows = np.array([row for row, _ in changed], np.int64)
        new = [self.contents.new[index] for _, index in changed]
        codec = self.reading.attribute(attributes.CODEC)
        table: Any = getattr(codec[1].meaning, "table", ()) if codec else ()
        record = {
            attributes.CODEC: [next((number for number, name in table if name == content.codec), 0) for content in new],
            attributes.STORED: [
                self.contents.stored_size(index) - self.contents.frame_size(index) for _, index in changed
            ],
            attributes.SIZE: [content.size for content in new],
        }
        for what, values in record.items():
            for block, field in self.reading.attributes(what):
                self.put(columns, block, settle(field), np.array(values, object), rows)
        for what in dict.fromkeys(what for content in new for what in content.facts):
            has = np.array([what in content.facts for content in new], bool)
            numbers = np.array([content.facts[what] for content in new if what in content.facts], object)
            for block, field in self.reading.attributes(what):
                self.put(columns, block, settle(field), numbers, rows[has])
        for block, field, meaning in self.reading.content_checksums():
            key = (meaning.algorithm, meaning.part)
            self.put_checksums(
                columns,
                block,
                field,
                [self.contents.checksums_of(index, self.contents.new[index])[key] for _, index in changed],
                rows,
            )
            self._put_moved_checksums(columns, block, field, key)
        columns = self._in_order(columns)
        self._put_relative(columns, settle)
        self._put_own(columns, settle, placed)
        if self.touched and self.folders is not None and has_ranges(self.reading):
            self._put_ranges(columns)
        return columns

    def facts(self) -> EntryFacts:
        """What is known of all entries of the new directory."""
        return EntryFacts(self.contents, self.edit, self.order, self.placed, self._changed(), self._stored)

    def _changed(self) -> list[tuple[int, int]]:
        """The rows of the new directory whose content is new, before they are ordered, and which it is."""
        place = {int(row): index for index, row in enumerate(self.contents.kept_rows)} if self.edit.removed else None
        changed = [(row if place is None else place[row], new) for row, new in self.contents.new_of_row.items()]
        first = len(self.edit.replaced)
        return changed + [
            (len(self.contents.kept_rows) + number, first + number) for number in range(len(self.edit.added))
        ]

    def _put_starts(self, columns: AllColumns, placed: Placed, settle: Settle, changed: list[tuple[int, int]]) -> None:
        rows, entries = self.contents.kept_rows, self.contents.entries
        spans = self.contents.part_of_row[rows]
        start = placed.span_start[spans] if len(placed.span_start) else entries.start[rows]
        start = np.concatenate([start, np.zeros(len(self.edit.added), np.int64)])
        for row, index in changed:
            start[row] = placed.new_start[index]
            self.contents.place_new(index, placed.new_start[index])
        self.contents.span_checksums = {}
        if self.contents.keyed:
            moved = placed.span_start != self.contents.spans[:, 0]
            for span in np.flatnonzero(moved | self.contents.rekeyed).tolist():
                self.contents.place_span(span, int(placed.span_start[span]))
        if self.reading.layout.content.until_next:
            self._untie(start, changed)
        self._relative = []
        end = start + self._stored(changed)
        self.placed = (start, end) if self.order is None else (start[self.order], end[self.order])
        for what, numbers in ((attributes.START, start), (attributes.END, end)):
            for block, field in self.reading.attributes(what):
                if is_relative(field):
                    self._relative.append((block, field, numbers))
                else:
                    self.put(columns, block, settle(field), numbers, None)

    def _put_relative(self, columns: AllColumns, settle: Settle) -> None:
        """The places that count from where their record starts, once the records stand in their order."""
        for block, field, numbers in self._relative:
            whole = NumberChange("from", 0, "start", block.block.name)
            begin = settle(replace(field, changes=(whole,))).changes[0].number
            sizes = block.records.sizes(columns[block.block.name])
            ordered = numbers if self.order is None else numbers[self.order]
            self.put(columns, block, settle(field), ordered - (begin + np.cumsum(sizes) - sizes), None)

    def _put_own(self, columns: AllColumns, settle: Settle, placed: Placed) -> None:
        """What the records store about themselves, once they stand in their order."""
        for what in attributes.OWN:
            for block, field in self.reading.attributes(what):
                before = self.reading.decode_numbers(block, field)
                starts, sizes, end = self._record_starts(columns, block, placed)
                last = int(before[-1]) if len(before) else 0
                if stores_row_end(block, last):
                    last = end
                numbers = own_numbers(what, starts, sizes, last) - (starts if is_relative(field) else 0)
                self.put(columns, block, settle(field), numbers.astype(object), None)

    def _record_starts(self, columns: AllColumns, block: BlockRead, placed: Placed) -> tuple[Array, Array, int]:
        """Where the records of a row start, the bytes of each, and where the row ends."""
        name = block.block.name
        begin = placed.starts.get(name, placed.size)
        sizes = block.records.sizes(columns[name])
        if block.ends is not None:  # each behind the content before it
            align = block.block.align
            ends = self.placed[1] + -self.placed[1] % align
            return np.concatenate([[begin], ends])[: len(ends)], sizes, int(ends[-1]) if len(ends) else begin
        return begin + np.cumsum(sizes) - sizes, sizes, begin + int(sizes.sum())

    def _stored(self, changed: list[tuple[int, int]]) -> Array:
        """The stored sizes of all entries, before they are ordered."""
        sizes = np.concatenate(
            [self.contents.entries.stored[self.contents.kept_rows], np.zeros(len(self.names), np.int64)]
        )
        for row, index in changed:
            sizes[row] = self.contents.stored_size(index)
        return sizes

    def _untie(self, start: Array, changed: list[tuple[int, int]]) -> None:
        """Where content ends at the next start, of entries that start together the last has it: others move behind
        it."""
        sizes = self._stored(changed)
        rank = np.argsort(self.order) if self.order is not None else np.arange(len(start))
        owners = {int(start[row]): row for row in np.flatnonzero(sizes).tolist()}
        for row in np.flatnonzero(sizes == 0).tolist():
            while (owner := owners.get(int(start[row]))) is not None and rank[owner] < rank[row]:
                start[row] += sizes[owner]

    def _put_moved_checksums(self, columns: AllColumns, block: BlockRead, field: Field, key: tuple[str, str]) -> None:
        """The checksums over stored content that was encrypted again because it has moved."""
        moved = {span: checksums[key] for span, checksums in self.contents.span_checksums.items() if key in checksums}
        spans = self.contents.part_of_row[self.contents.kept_rows]
        rows = [
            row
            for row in np.flatnonzero(np.isin(spans, list(moved))).tolist()
            if int(self.contents.kept_rows[row]) not in self.edit.replaced
        ]
        self.put_checksums(columns, block, field, [moved[int(spans[row])] for row in rows], np.array(rows, np.int64))

    def put_checksums(
        self, columns: AllColumns, block: BlockRead, field: Field, values: Sequence[int], rows: Array
    ) -> None:
        """Put checksums into a column; a digest in bytes has its highest byte first."""
        if not len(values):
            return
        if isinstance(field.type, Raw):
            size = field.type.size
            column: Any = columns[block.block.name][field.name]
            made = column.copy()
            made[rows] = np.frombuffer(b"".join(value.to_bytes(size, "big") for value in values), f"V{size}")
            columns[block.block.name][field.name] = made
        else:
            self.put(columns, block, field, np.array(values, object), rows)

    def put(self, columns: AllColumns, block: BlockRead, field: Field, values: Array, rows: Array | None) -> None:
        """Put true numbers into a column (all of it, or some rows) and into that with their upper bits."""
        home, upper = columns[block.block.name], upper_field(block.block, field)
        if not len(values):
            return
        where = f"{self.reading.source.name}, {block.block.name}"
        if field.when is not None and rows is None and len(values) > 1:
            rows = np.flatnonzero(
                block.present(field)[self.rows] if len(self.rows) == len(values) else np.ones(len(values), bool)
            )
            values = values[rows]
        if upper is None:
            self._store(home, field, encode_numbers(values, field, where), rows)
            return
        bits = field.type.value_bits if isinstance(field.type, IntegerType) else 0
        whole = encode_numbers(values, replace(field, type=Number(64, False, False)), where).astype(object)
        self._store(home, field, encode_numbers(whole % (1 << bits), replace(field, changes=()), where), rows)
        self._store(home, upper, encode_numbers(whole >> bits, upper, where), rows)

    def _store(self, home: Columns, field: Field, stored: Array, rows: Array | None) -> None:
        if rows is None:
            home[field.name] = stored
            return
        column: Any = home[field.name]
        made = column.copy()
        made[rows] = stored
        home[field.name] = made

    # folders

    def _put_ranges(self, columns: AllColumns) -> None:
        """Which entries are a folder's, by the first and how many, after some were added or removed."""
        assert self.folders is not None
        first, told = self.reading.attribute(attributes.FIRST_FILE), self.reading.attribute(attributes.FILES)
        assert first is not None and told is not None
        firsts, counts = self.reading.decode_numbers(*first), self.reading.decode_numbers(*told)
        folders = self.folders if self.order is None else self.folders[self.order]
        # where a folder without entries would have them, unless it says nothing of that
        new_first = np.where(firsts > 0, np.searchsorted(self.contents.kept_rows, firsts), 0)
        there, places = np.unique(folders, return_index=True)
        new_first[there] = places
        numbers = np.bincount(folders, minlength=len(counts)) if len(folders) else np.zeros(len(counts), np.int64)
        self.put(columns, first[0], self.reading.settled(first[1]), new_first, None)
        self.put(columns, told[0], self.reading.settled(told[1]), numbers, None)

    def weave(self, block: Block, columns: AllColumns, data: dict[str, bytes]) -> None:
        """Put the records that lie within a block's own into its column, and how many there are."""
        one = next((field for field in block.fields if isinstance(field.meaning, RecordsOf)), None)
        if one is None or not isinstance(one.meaning, RecordsOf):
            return
        inner = self.reading.blocks[one.meaning.block]
        owners = self.owners(inner)
        pieces = inner.records.pieces(columns[inner.block.name])
        records = [b"".join(parts) for parts in zip(*pieces, strict=True)]
        count = rows_of(columns[block.name])
        regions = [list[bytes]() for _ in range(count)]
        for record, owner in zip(records, owners.tolist(), strict=True):
            regions[owner].append(record)
        columns[block.name][one.name] = Texts.of([b"".join(parts) for parts in regions], "latin-1")
        teller = next(field for field in block.fields if field.meaning == Measure("count", inner.block.name))
        self.put(
            columns,
            self.reading.blocks[block.name],
            self.reading.settled(teller),
            np.array([len(parts) for parts in regions], object),
            None,
        )

    def owners(self, inner: BlockRead) -> Array:
        """For each record of a block the record of another that it belongs to."""
        if inner.block.name in self.entry_blocks and self.folders is not None:
            return self.folders if self.order is None else self.folders[self.order]
        assert inner.owners is not None
        return inner.owners


def by_start(reading: Reading) -> bool:
    """Whether the records of entries are sorted by where their content starts."""
    return any(
        block is found and block.block.sorted_by == field.name
        for found, field in reading.attributes(attributes.START)
        for block in reading.entry_blocks()
    )
