"""Tables, texts and scenes that a layout reads: their sheets, and the file with changes, written by the same layout."""

from __future__ import annotations

import functools
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from volvex.data.model.cells import Pools, cells_of, encoded, places_in_pool, replaced, rule_of, some_of, stored_cells
from volvex.data.model.sheet import TEXT, Change, Column, Document, InvalidValue, Rule, Sheet, parsed
from volvex.errors import FormatError, NotFoundError, UnfitError
from volvex.layout.columns import AllColumns, rows_of, sorting, taken
from volvex.layout.model import Block, Field, Layout, Value, pooled_length, pools_of
from volvex.layout.name_hash import Keying, KeyPart, Names, bits_of
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.read.open import read
from volvex.layout.records.numbers import encode_numbers
from volvex.layout.write.checks import require_writable
from volvex.layout.write.plan import Edit
from volvex.layout.write.planner import Pointer, plan
from volvex.source import BytesSource, Source


class LayoutDocument(Document):
    """A file of records with values, read by its layout."""

    def __init__(self, layout: Layout, source: Source, names: Names | None = None) -> None:
        self.layout, self.form, self.file, self._names = layout, layout.kind, source.name, names
        self.reading: Reading = read(layout, source)
        self.pools = Pools(self.reading, pools_of(layout))

    @functools.cached_property
    def _sheets(self) -> list[Sheet]:
        return [sheet for root in self.roots for sheet in self.sheets_of(root)]

    @property
    def sheets(self) -> list[Sheet]:
        return self._sheets

    @functools.cached_property
    def roots(self) -> list[BlockRead]:
        """The blocks with values that follow no other."""
        layout = self.reading.layout
        record = dict.fromkeys(layout.root(block).name for block in layout.blocks if block.repeats and values_of(block))
        return [self.reading.blocks[name] for name in record]

    def along(self, root: BlockRead) -> list[BlockRead]:
        """A block and those whose records go with its own."""
        layout = self.reading.layout
        return [block for block in self.reading.blocks.values() if layout.root(block.block).name == root.block.name]

    def fields(self, root: BlockRead) -> dict[str, tuple[BlockRead, Field]]:
        """The fields with values of a block and those along it."""
        return {field.name: (block, field) for block in self.along(root) for field in values_of(block.block)}

    def sheets_of(self, root: BlockRead) -> list[Sheet]:
        """The sheets that a block is: one, for tables."""
        fields = self.fields(root)
        columns = [self.column(block, field) for block, field in fields.values()]
        roles = {column.rule.role: column.name for column in columns}
        row_id = [roles[role] for role in ("id", "language") if role in roles] or [
            roles[role] for role in ("name",) if role in roles
        ]
        sheet = Sheet(root.block.name, columns, len(root.starts), row_id)
        self.name_keys(sheet, fields)
        return [sheet]

    def column(self, block: BlockRead, field: Field) -> Column:
        """The column of a field."""
        assert isinstance(field.meaning, Value)
        rule = rule_of(field.type, field.meaning, field.changes, self.pools.encoding(field.meaning))
        if field.meaning.role == "id" and self.layout.keys:
            keying, bits = self.keying(field), bits_of(field.type)
            return Column(field.name, Rule(TEXT, role="id"), lambda: self._hashed(block, field, keying, bits))
        return Column(
            field.name,
            rule,
            lambda: cells_of(self.reading, block, field, self.pools),
            lambda rows: cells_of(self.reading, some_of(block, rows), field, self.pools),
        )

    # ids that are made of names

    def keying(self, field: Field) -> Keying:
        """How names become ids."""
        return Keying([KeyPart("name hash", self.layout.keys[0], bits_of(field.type))])

    def _hashed(self, block: BlockRead, field: Field, keying: Keying, bits: int) -> Any:
        """Ids by their names where somebody knows them, otherwise in hexadecimal digits."""
        ids = block.numbers(field.name).astype(np.uint64)
        known = self._names.match(self.layout, keying, [ids]) if self._names is not None else {}
        cells = np.array([f"0x{row_id:0{bits // 4}x}" for row_id in ids.tolist()], object)
        for row, names in known.items():
            if len(names) == 1:
                cells[row] = names[0]
        return cells

    def name_keys(self, sheet: Sheet, fields: Mapping[str, tuple[BlockRead, Field]]) -> None:
        """Tell a sheet how its ids are made of names."""
        if self.layout.keys and sheet.id:
            keying = self.keying(fields[sheet.id[0]][1])
            sheet.hash = lambda name: f"0x{keying.text(name)}"

    def key_number(self, field: Field, text: str) -> int:
        """The number for an id: of its name, or of hexadecimal digits."""
        if text.startswith("0x"):
            try:
                return int(text, 16)
            except ValueError as error:
                raise FormatError(self.file, f"{text} is no id", hint="hexadecimal digits, or the name") from error
        return int(self.keying(field).text(text), 16)

    # writing

    def reread(self, data: bytes) -> Document:
        return type(self)(self.layout, BytesSource(data, self.file), self._names)

    def written(self, changes: Sequence[Change]) -> bytes:
        require_writable(self.layout)
        if not changes:
            return self.reading.source.read(0, self.reading.source.size)
        self.pools = Pools(self.reading, self.pools.pools)
        columns: AllColumns = {name: dict(block.columns) for name, block in self.reading.blocks.items()}
        for root in self.roots:
            names = {sheet.name for sheet in self.sheets if sheet.group == root.block.name}
            some = [change for change in changes if change.sheet in names]
            if some:
                _Rows(self, root, columns).apply(some)
        for name, column in self.pools.columns().items():
            columns[name] = {**columns[name], **column}
        made = plan(self.reading, Edit(), columns=columns, pointers=list(self._pointers(columns)))
        data = b"".join(made.chunks())
        type(self)(self.layout, BytesSource(data, self.file), self._names)  # what was written can be read
        return data

    def _pointers(self, columns: AllColumns) -> Iterator[Pointer]:
        """The fields that tell where in the file a text is: they change when its pool moves."""
        for root in self.roots:
            for block, field in self.fields(root).values():
                meaning = field.meaning
                assert isinstance(meaning, Value)
                if meaning.pool and not meaning.numbered and any(change.how == "from" for change in field.changes):
                    held = columns[block.block.name]
                    now = replace(block, columns=held, starts=np.zeros(rows_of(held), np.int64))
                    into = places_in_pool(self.reading, now, field, meaning)
                    rows = np.flatnonzero(into >= 0)
                    yield Pointer(block.block.name, field, meaning.pool, rows, into[rows])

    def set_cells(self, home: _Rows, row: int, change: Change) -> None:
        """Set one cell."""
        block, field = home.field(change.field, change.sheet)
        home.put(block, field, [row], [self.value(field, change)])

    def value(self, field: Field, change: Change) -> Any:
        """The value of a change, checked; FormatError when the field cannot hold it."""
        assert isinstance(field.meaning, Value)
        rule = rule_of(field.type, field.meaning, field.changes, self.pools.encoding(field.meaning))
        if field.meaning.role == "id" and self.layout.keys:
            return self.key_number(field, change.after or "")
        return checked(rule, change, self.file)

    def added(self, home: _Rows, row: int, change: Change) -> None:
        """Set the fields of a record that was added."""
        for name, text in change.fields:
            self.set_cells(home, row, Change("set", change.sheet, change.id, name, None, text))


def checked(rule: Rule, change: Change, file: str) -> Any:
    """The value of a change; FormatError when the column cannot hold it."""
    if rule.fixed:
        raise UnfitError(file, f"row {change.id}: {change.field} cannot be set as a whole", hint="one of its values")
    try:
        return parsed(rule, change.after or "")
    except InvalidValue as error:
        raise UnfitError(
            file, f"row {change.id}: {change.field} cannot be {change.after!r}", hint=str(error)
        ) from error


def values_of(block: Block) -> list[Field]:
    """The fields of a block that are values."""
    return [field for field in block.fields if isinstance(field.meaning, Value)]


class _Rows:
    """The records of a block, and of those along it, being changed."""

    def __init__(self, document: LayoutDocument, root: BlockRead, columns: AllColumns) -> None:
        self.document, self.root, self.columns = document, root, columns
        self.fields = document.fields(root)
        self._waiting: dict[tuple[str, str], tuple[BlockRead, Field, list[int], list[Any]]] = {}

    def apply(self, changes: Sequence[Change]) -> None:
        """All changes: values first, then records that come and go, then their order."""
        rows = {sheet.name: sheet for sheet in self.document.sheets if sheet.group == self.root.block.name}
        for change in changes:
            if change.what == "set":
                self.document.set_cells(self, self.row(rows[change.sheet], change.id), change)
        self.flush()
        gone = [self.row(rows[change.sheet], change.id) for change in changes if change.what == "remove"]
        new = [change for change in changes if change.what == "add"]
        count = len(self.root.starts)
        kept = np.setdiff1d(np.arange(count), np.array(gone, np.int64))
        likes = [self._like(rows, change, count) for change in new]
        if gone or new:
            self._select(np.concatenate([kept, np.array(likes, np.int64)]))
        for place, one in enumerate(new, len(kept)):
            self.document.added(self, place, one)
        self.flush()
        self._sort()

    def row(self, sheet: Sheet, row_id: str) -> int:
        """The row in the block; NotFoundError when there is none."""
        found = sheet.row(row_id)
        if found is None:
            raise NotFoundError(f"{self.document.file}: {sheet.name} has no row {row_id}")
        return int(sheet.places[found])

    def _like(self, rows: Mapping[str, Sheet], change: Change, count: int) -> int:
        if change.like:
            return self.row(rows[change.sheet], change.like)
        if not count:
            raise FormatError(
                self.document.file, f"{change.sheet} is empty: there is no record to take what is unknown from"
            )
        sheet = rows[change.sheet]
        return int(sheet.places[len(sheet) - 1])

    def _select(self, order: Any) -> None:
        for block in self.document.along(self.root):
            name = block.block.name
            self.columns[name] = {text: taken(column, order) for text, column in self.columns[name].items()}

    def _sort(self) -> None:
        by = next(
            (block_read.block.sorted_by for block_read in self.document.along(self.root) if block_read.block.sorted_by),
            None,
        )
        if by is None:
            return
        home = next(block_read for block_read in self.document.along(self.root) if block_read.block.sorted_by)
        order = sorting(self.columns[home.block.name][by])
        if not bool((order == np.arange(len(order))).all()):
            self._select(order)

    def field(self, name: str, sheet: str) -> tuple[BlockRead, Field]:
        """A field by its name."""
        if name not in self.fields:
            self.document.sheet(sheet).column(name, self.document.file)
        return self.fields[name]

    def put(self, block: BlockRead, field: Field, rows: Sequence[int], values: Sequence[Any]) -> None:
        """Set a field in some records; done together by `flush`."""
        waiting = self._waiting.setdefault((block.block.name, field.name), (block, field, [], []))
        waiting[2].extend(rows)
        waiting[3].extend(values)

    def flush(self) -> None:
        """Store what was put."""
        where = f"{self.document.file}, {self.root.block.name}"
        for (name, field), (_, one, rows, values) in self._waiting.items():
            stored = stored_cells(one, values, self.document.pools, self.document.reading.settled, where)
            self.columns[name] = {**self.columns[name], field: replaced(self.columns[name][field], rows, stored)}
            self._put_lengths(name, one, rows, values)
        self._waiting.clear()

    def _put_lengths(self, name: str, field: Field, rows: Sequence[int], values: Sequence[Any]) -> None:
        """The lengths of texts in a pool of bytes, beside where they start."""
        meaning, pools = field.meaning, self.document.pools
        if not isinstance(meaning, Value) or not pools.is_bare(meaning):
            return
        length = pooled_length(self.document.reading.blocks[name].block, field)
        assert length is not None
        sizes = np.array([len(encoded(value, pools.encoding(meaning))) for value in values], object)
        stored = encode_numbers(sizes, self.document.reading.settled(length), self.document.file)
        self.columns[name] = {
            **self.columns[name],
            length.name: replaced(self.columns[name][length.name], rows, stored),
        }
