"""What becomes of the entries' contents: which stay, which are new, and what must be encrypted again."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace

import numpy as np

from volvex.codec import CHECKSUM, Cipher
from volvex.layout.checksums import new_sum
from volvex.layout.columns import Array, Columns
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import ChecksumOf, Raw
from volvex.layout.read.blocks import Reading
from volvex.layout.read.entries import placing_of
from volvex.layout.read.facts import KeyValue, Record, facts_of_key, key_facts, key_fields, known_facts
from volvex.layout.read.frames import Around, facts_asked, new_around
from volvex.layout.records.numbers import encode_numbers
from volvex.layout.transforms import KeyFacts, ciphers_of, decrypted, encrypted, made_codec
from volvex.layout.write.place import Contents
from volvex.layout.write.plan import ChecksumKey, Edit, NewContent, Piece
from volvex.source import Spool


class ContentPlan:
    """The contents before and after an edit. Rows are those of the old directory, spans its stretches of stored
    bytes."""

    def __init__(self, reading: Reading, edit: Edit, spool: Callable[[], Spool], pinned: bool = False) -> None:
        assert reading.entries is not None
        self.reading, self.edit, self.entries, self._spool = reading, edit, reading.entries, spool
        self.pinned = pinned  # new content takes the place of the old one only where it fits
        self.new = [*edit.replaced.values(), *(added.content for added in edit.added)]
        self.align, self.fill = placing_of(reading)
        self.transforms = reading.layout.content.transforms
        self._plain = {transform: made_codec(transform) for transform in self.transforms if not transform.derived}
        whats = {what for transform in self.transforms for derived in transform.derived for what in derived.asks}
        self.framed = bool(reading.layout.content.head or reading.layout.content.tail)
        if self.framed:
            whats |= {"number" if what == attributes.OWN_NUMBER else "start" for what in facts_asked(reading.layout)}
        self.keyed = bool({"start", "number"} & whats)
        self.numbered = "number" in whats
        self.kept_rows = np.setdiff1d(np.arange(len(self.entries)), np.array(sorted(edit.removed), np.int64))
        self.checksums: dict[int, dict[ChecksumKey, int]] = {}  # of new contents, where encrypting has changed them
        self.span_checksums: dict[int, dict[ChecksumKey, int]] = {}
        self._done: dict[tuple[str, int, object], tuple[Piece, dict[ChecksumKey, int]]] = {}
        self._replaced = list(edit.replaced)
        self._stored_sizes: dict[int, int] = {}
        self._new_pieces: dict[int, Piece] = {}
        self.numbers = np.arange(len(self.entries))  # of each old row in the new directory
        self._added_numbers = np.zeros(len(edit.added), np.int64)
        self.records: Mapping[str, Columns] = {}  # of the entries, those that are added last: the directory sets them
        self._spans()
        self._changes()

    def _spans(self) -> None:
        """Which stretch of stored bytes each entry has: entries with the same start and size share one."""
        pairs = np.stack([self.entries.start, self.entries.stored], axis=1)
        if not len(pairs):
            self.spans, self.part_of_row, self.row_of_span = pairs, np.zeros(0, np.int64), np.zeros(0, np.int64)
            return
        self.spans, self.row_of_span, index = np.unique(pairs, axis=0, return_index=True, return_inverse=True)
        self.part_of_row = index.reshape(-1)

    def _changes(self) -> None:
        """For each span: the new content in its place (or -1), and whether nothing of it remains."""
        self.new_of_span = np.full(len(self.spans), -1, np.int64)
        self.new_of_row: dict[int, int] = {}
        self.anchors: list[int] = []
        self.loose: list[int] = []  # new contents whose span lives on, for another entry, and those of new entries
        users = np.bincount(self.part_of_row, minlength=len(self.spans))
        floating = self._contents(np.zeros(len(self.spans), bool)).floating
        for index, row in enumerate(self.edit.replaced):
            span = int(self.part_of_row[row])
            users[span] -= 1
            self.new_of_row[row] = index
            fits = not self.pinned or self.stored_size(index) <= int(self.spans[span][1])
            if users[span] == 0 and not floating[span] and fits:
                self.new_of_span[span] = index
            else:
                self.loose.append(index)
        for row in self.edit.removed:
            users[int(self.part_of_row[row])] -= 1
        self.gone = users <= 0
        self.loose += range(len(self.edit.replaced), len(self.new))

    def _contents(self, gone: Array) -> Contents:
        align, fill = self.align[self.row_of_span], self.fill[self.row_of_span]
        return Contents(
            self.spans,
            align,
            fill,
            self.new_of_span,
            gone,
            self._placed_loose(),
            self.keyed,
            self.rekeyed,
            self.reading.content_source.size,
            self.anchors,
        )

    def _placed_loose(self) -> list[tuple[int, int, int]]:
        rows = [(index, self.like(index)) for index in self.loose]
        return [(index, int(self.align[row]), int(self.fill[row])) for index, row in rows]

    def placed(self, here: bool) -> Contents:
        """The contents for the placer of their source; none for others."""
        return self._contents(self.gone) if here else Contents.none()

    def like(self, index: int) -> int:
        """The old row of a new content: the one that it replaces, or is like."""
        if index < len(self.edit.replaced):
            return self._replaced[index]
        return self.edit.added[index - len(self.edit.replaced)].like

    def name_of_span(self, span: int) -> str:
        """How errors call a stretch of content."""
        row = int(self.row_of_span[span])
        name = self.entries.names.raw(row).decode(self.entries.names.encoding, "backslashreplace")
        return f"the content of {name!r} ({self.reading.home.block.name}[{row}])"

    # ciphers

    def stored_size(self, index: int) -> int:
        """The bytes that a new content takes: a cipher may fill up its last unit."""
        if index not in self._stored_sizes:
            size = self.new[index].stored
            for transform in reversed(self.transforms):
                if transform.when is not None and not self._record(index).holds(transform.when):
                    continue
                cipher = self._plain.get(transform) or made_codec(transform, KeyFacts(b"-", 0, size, size))
                size += -size % cipher.unit if cipher.pads else 0
            self._stored_sizes[index] = size + self.frame_size(index, size)
        return self._stored_sizes[index]

    def frame_size(self, index: int, stored: int = 0) -> int:
        """The bytes around a new content."""
        if not self.framed:
            return 0
        around = self._around(index, 0, self.new[index].size, stored)
        return len(around.head) + len(around.tail)

    def _around(self, index: int, start: int, size: int, stored: int) -> Around:
        """What stands around a new content that starts there."""
        outer = self._record(index).scope(known_facts(start, size, stored, self._number(index)), self._name(index))
        return new_around(self.reading, self.like(index), outer, self.new[index].checksums)

    def place_new(self, index: int, start: int) -> None:
        """Settle where a new content lies; it is encrypted accordingly."""
        if not self.transforms and not self.framed:
            return
        content, key = self.new[index], ("new", index, (start, self._number(index)) if self.keyed else 0)
        if key not in self._done:
            sizes = content.size, self.stored_size(index) - self.frame_size(index)
            known = facts_of_key(self._record(index), self._name(index), start, *sizes, self._number(index))
            around = self._around(index, start, *sizes) if self.framed else None
            facts = replace(known, fields=self._fields(index, known), frame=around)
            self._done[key] = self._encrypted(content.source.chunks(content.offset, content.stored), facts)
        self._new_pieces[index], checksums = self._done[key]
        self.checksums[index] = {**content.checksums, **checksums}

    def _record(self, index: int) -> Record:
        """The record of a new content: that in which it replaces another, or its own."""
        added = index - len(self.edit.replaced)
        if added < 0 or not self.records:
            return Record.of(self.reading, self.like(index))
        return Record(self.reading, self.records, len(self.kept_rows) + added)

    def _fields(self, index: int, known: KeyFacts) -> dict[str, KeyValue]:
        """The fields that a new content's key comes from, as its record will store them."""
        fields = dict(known.fields)
        for name, (block, field) in key_fields(self.reading).items():
            if isinstance(field.meaning, ChecksumOf) and field.meaning.part == "content":
                value = self.new[index].checksums[field.meaning.algorithm, "content"]
                if isinstance(field.type, Raw):
                    fields[name] = value.to_bytes(field.type.size, "big")
                else:
                    stored = encode_numbers(np.array([value], object), field, block.block.name)
                    fields[name] = int(stored[0]), CHECKSUM.get(field.meaning.algorithm).bits
        return fields

    def place_span(self, span: int, start: int) -> None:
        """Settle where an old content lies whose key depends on that."""
        row = int(self.row_of_span[span])
        key = ("old", span, (start, int(self.numbers[row])))
        if key not in self._done:
            old, stored = (int(number) for number in self.spans[span])
            before = key_facts(self.reading, row)
            after = key_facts(self.reading, row, start=start, number=int(self.numbers[row]))
            if self.framed:
                facts = known_facts(start, after.size, after.stored, after.number)
                outer = Record.of(self.reading, row).scope(facts, after.name)
                after = replace(after, frame=new_around(self.reading, row, outer, None))
            chunks = self.reading.content_source.chunks(old, stored)
            self._done[key] = self._encrypted(decrypted(chunks, self._ciphers(before)), after)
        self.span_checksums[span] = self._done[key][1]

    def _ciphers(self, attributes: KeyFacts) -> list[Cipher]:
        return ciphers_of(self.transforms, attributes, self._plain)

    def _encrypted(self, chunks: Iterator[bytes], attributes: KeyFacts) -> tuple[Piece, dict[ChecksumKey, int]]:
        """Content as it is stored, in the temporary file, and the checksums over it."""
        totals = {
            (algorithm, part): new_sum(algorithm)
            for algorithm, part in self.reading.content_sums()
            if part == "stored content"
        }

        def counted() -> Iterator[bytes]:
            for chunk in encrypted(chunks, self._ciphers(attributes)):
                for total in totals.values():
                    total.update(chunk)
                yield chunk

        spool = self._spool()
        offset, size = spool.append(counted())
        return Piece(source=spool, offset=offset, size=size), {key: total.value() for key, total in totals.items()}

    def _name(self, index: int) -> bytes:
        if index < len(self.edit.replaced):
            return self.entries.names.raw(self.like(index))
        return self.edit.added[index - len(self.edit.replaced)].name

    def made(self, index: int) -> Piece:
        """A new content as it is stored."""
        if self.transforms or self.framed:
            return self._new_pieces[index]
        content = self.new[index]
        return Piece(source=content.source, offset=content.offset, size=content.stored)

    def moved(self, span: int, start: int) -> Piece:
        """An old content as it is stored at a new place."""
        return self._done["old", span, (start, int(self.numbers[int(self.row_of_span[span])]))][0]

    def order(self, order: Array | None) -> None:
        """Settle the numbers of all entries in the new directory, of which `order` says what stands where."""
        count = len(self.kept_rows) + len(self.edit.added)
        places = np.arange(count) if order is None else np.argsort(order)
        self.numbers[self.kept_rows] = places[: len(self.kept_rows)]
        self._added_numbers = places[len(self.kept_rows) :]
        if self.reading.layout.content.ordered and self.loose:
            self.loose.sort(key=self._number)
            self._anchor()

    def _anchor(self) -> None:
        """Behind which span each loose content goes, so that all lie in the order of the records; -1: before all."""
        floating = self._contents(self.gone).floating
        loose = {self._number(index): index for index in self.loose}
        row_of = {int(self.numbers[row]): int(row) for row in self.kept_rows}
        last = -1
        for place in range(len(self.kept_rows) + len(self.edit.added)):
            if place in loose:
                self.anchors.append(last)
            elif not floating[span := int(self.part_of_row[row_of[place]])]:
                last = span

    @property
    def rekeyed(self) -> Array:
        """Which spans are encrypted again wherever they lie, since their entry's number is another."""
        if not self.numbered:
            return np.zeros(len(self.spans), bool)
        return np.asarray(self.numbers[self.row_of_span] != self.row_of_span, bool)

    def _number(self, index: int) -> int:
        """The number that the entry of a new content has in the new directory."""
        first = len(self.edit.replaced)
        return int(self.numbers[self.like(index)] if index < first else self._added_numbers[index - first])

    def checksums_of(self, index: int, content: NewContent) -> dict[ChecksumKey, int]:
        """The checksums over a new content as it is stored."""
        return self.checksums.get(index, dict(content.checksums))
