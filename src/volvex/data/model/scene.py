"""Scenes: objects with ids, each of a type whose record says which fields it has; a sheet for each type.

A field within a field is told by its path: `hook/height`, `wicks/0`. Nobody's fields stay as they were: an object's
bytes are read, changed and written by the same record.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.data.model.cells import raw_at, replaced, rule_of, siblings_of, stored_number, worded
from volvex.data.model.layout_document import LayoutDocument, _Rows, checked
from volvex.data.model.sheet import Array, Change, Column, Rule, Sheet, cell_text, float_value
from volvex.errors import FormatError, NotFoundError
from volvex.layout import model
from volvex.layout.columns import Texts
from volvex.layout.model import Choice, Field, FieldType, Float, Nested, NumberChange, Raw, Value
from volvex.layout.read.blocks import BlockRead

Path = tuple[str | int, ...]


@dataclass(frozen=True)
class Leaf:
    """A single value within a field: where, what it is, how it is changed, and what is stored."""

    path: Path
    kind: FieldType
    meaning: Value
    changes: tuple[NumberChange, ...]
    stored: Any

    @property
    def name(self) -> str:
        return "/".join(map(str, self.path))

    def decode_numbers(self) -> Any:
        """The true value: of a number with its changes."""
        value = self.stored
        for change in self.changes:
            value = change.apply(value)
        return value

    def undone(self, value: int) -> int:
        """The stored number of a true one."""
        for change in reversed(self.changes):
            value = change.undo(value)
        return value


class SceneData(LayoutDocument):
    """A scene read by its layout."""

    def sheets_of(self, root: BlockRead) -> list[Sheet]:
        """A sheet for each type of object."""
        fields = self.fields(root)
        plain = {name: self.column(*field) for name, field in fields.items() if not is_body(field[1].type)}
        bodies = [(block, field) for block, field in fields.values() if is_body(field.type)]
        types = self._types(root, fields, plain)
        found = []
        for kind in dict.fromkeys(types):
            rows = np.array([row for row, text in enumerate(types) if text == kind], np.int64)
            columns = [_picked(column, rows) for column in plain.values()]
            for block, one in bodies:
                columns += self._body_columns(block, one, rows)
            row_id = [column.name for column in columns if column.rule.role == "id"]
            sheet = Sheet(kind, columns, len(rows), row_id, root.block.name)
            sheet.places = rows.tolist()
            found.append(sheet)
        return found

    def _types(self, root: BlockRead, fields: Mapping[str, Any], plain: Mapping[str, Column]) -> list[str]:
        """The type of each object: its word, or the record that is chosen for it."""
        column = next((column for column in plain.values() if column.rule.role == "type"), None)
        if column is not None:
            return [text or "-" for text in column.texts()]
        for block, one in fields.values():
            if isinstance(one.type, Choice):
                numbers = block.numbers(one.type.by)
                return list(worded(numbers, one.type.table).tolist())
        return [root.block.name] * len(root.starts)

    def _body_columns(self, block: BlockRead, field: Field, rows: Array) -> list[Column]:
        """The columns of what changes from type to type."""
        stored = block.columns[field.name]
        cells: dict[str, tuple[Rule, dict[int, Any]]] = {}
        for place, row in enumerate(rows.tolist()):
            value, _ = field.type.decode(raw_at(stored, row), 0, siblings_of(block, row))
            for leaf in self.leaves(field, value, siblings_of(block, row)):
                _, mapping = cells.setdefault(leaf.name, (self._rule(leaf), {}))
                mapping[place] = self._cell(leaf)
        return [Column(name, rule, _filled(mapping, len(rows))) for name, (rule, mapping) in cells.items()]

    def _rule(self, leaf: Leaf) -> Rule:
        return rule_of(leaf.kind, leaf.meaning, leaf.changes, self.pools.encoding(leaf.meaning))

    def leaves(self, field: Field, value: Any, siblings: Mapping[str, Any]) -> Iterator[Leaf]:
        """The single values within a field."""
        assert isinstance(field.meaning, Value)
        kind = field.type
        if isinstance(kind, Choice):
            yield from _within(chosen(kind, siblings), value, ())
        else:
            yield from _spread(kind, field, field.meaning, value, (field.name,))

    def _cell(self, leaf: Leaf) -> Any:
        """A single value as a cell."""
        kind, meaning, value = leaf.kind, leaf.meaning, leaf.stored
        if isinstance(kind, Float):
            return cell_text(float_value(value, kind.bits))
        if isinstance(value, bytes):
            return value.hex(" ")
        if meaning.pool:
            nothing = isinstance(kind, model.IntegerType) and value == kind.limits[1]
            return None if nothing else self.pools.texts(np.array([leaf.decode_numbers()]), meaning)[0]
        if isinstance(value, str):
            return value
        return (
            dict(meaning.table).get(leaf.decode_numbers(), str(leaf.decode_numbers()))
            if meaning.table
            else int(leaf.decode_numbers())
        )

    # writing

    def set_cells(self, home: _Rows, row: int, change: Change) -> None:
        if change.field in home.fields and not is_body(home.fields[change.field][1].type):
            if any(
                isinstance(field.type, Choice) and field.type.by == change.field for _, field in home.fields.values()
            ):
                raise FormatError(
                    self.file,
                    f"row {change.id}: its {change.field} decides its fields and cannot be set",
                    hint="a copy of an object of the other type: --copy OLD=NEW",
                )
            super().set_cells(home, row, change)
            return
        for block, field in home.fields.values():
            if is_body(field.type):
                self._set_within(home, block, field, row, change)
                return
        home.field(change.field, change.sheet)

    def _set_within(self, home: _Rows, block: BlockRead, field: Field, row: int, change: Change) -> None:
        columns = home.columns[block.block.name]
        siblings = _siblings(columns, row)
        raw = raw_at(columns[field.name], row)
        value, _ = field.type.decode(raw, 0, siblings)
        if field.type.encode(value, siblings) != raw:
            raise FormatError(
                self.file,
                f"row {change.id}: its record holds bytes that could not be written back as they are",
                field=change.field,
                hint="a layout that describes them",
            )
        for leaf in self.leaves(field, value, siblings):
            if leaf.name == change.field:
                _put(value, leaf.path, self._stored(leaf, change), field)
                columns[field.name] = replaced(columns[field.name], [row], [field.type.encode(value, siblings)])
                return
        home.field(change.field, change.sheet)
        raise NotFoundError(f"{self.file}: row {change.id} has no {change.field}")

    def _stored(self, leaf: Leaf, change: Change) -> Any:
        """What stands in the record for the value of a change."""
        kind, value = leaf.kind, checked(self._rule(leaf), change, self.file)
        if isinstance(kind, Float):
            return cell_text(value)
        if isinstance(kind, Raw):
            return bytes.fromhex(value)
        if isinstance(kind, model.IntegerType):
            return leaf.undone(stored_number(kind, value, leaf.meaning, self.pools))
        return value


def _siblings(columns: Mapping[str, Any], row: int) -> dict[str, int]:
    return {
        name: int(column[row])
        for name, column in columns.items()
        if not isinstance(column, Texts) and column.dtype.kind in "iu"
    }


def _within(record: Nested, value: Mapping[str, Any], before: Path) -> Iterator[Leaf]:
    """The single values of a record within a field."""
    for field in record.fields:
        if isinstance(field.meaning, Value) and field.name in value:
            yield from _spread(field.type, field, field.meaning, value[field.name], (*before, field.name))


def _spread(kind: FieldType, field: Field, meaning: Value, value: Any, path: Path) -> Iterator[Leaf]:
    """A value's single values: those of a record, and of each element of an array."""
    if isinstance(kind, Nested):
        yield from _within(kind, value, path)
    elif isinstance(kind, model.ArrayType):
        for place, element in enumerate(value):
            yield from _spread(kind.of, field, meaning, element, (*path, place))
    else:
        yield Leaf(path, kind, meaning, field.changes, value)


def _put(value: Any, path: Path, new: Any, field: Field) -> None:
    """Set a value deep within; the path of a choice starts in its record."""
    steps = path if isinstance(field.type, Choice) else path[1:]
    for step in steps[:-1]:
        value = value[step]
    value[steps[-1]] = new


def chosen(kind: Choice, siblings: Mapping[str, Any]) -> Nested:
    """The record that a number chooses."""
    record = kind.chosen(siblings[kind.by])
    assert record is not None  # it was decoded
    return record


def is_body(kind: FieldType) -> bool:
    """Whether a field holds others."""
    return kind.compound


def _picked(column: Column, rows: Array) -> Column:
    return Column(column.name, column.rule, lambda: column.values[rows])


def _filled(mapping: Mapping[int, Any], count: int) -> Any:
    def load() -> Array:
        cells = np.full(count, None, object)
        for place, value in mapping.items():
            cells[place] = value
        return cells

    return load
