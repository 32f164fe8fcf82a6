"""What every field type can do, and the fields that have types."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, ClassVar, Self

import numpy as np
import numpy.typing as npt

from volvex.errors import FormatError
from volvex.layout.arithmetic import NumberChange, When
from volvex.layout.columns import Column, Texts
from volvex.layout.meanings import Meaning

Array = npt.NDArray[Any]
Decoded = Any  # a number, a text, bytes, a list, or a dictionary of these
GATHER = 1 << 16  # records gathered at once


class InvalidValue(ValueError):
    """A value that its field cannot hold: what it is, and what could be there."""


class InvalidSyntax(ValueError):
    """A type that a layout cannot have: at which of its parts, what is wrong, and what could be there."""

    def __init__(self, part: str, problem: str, hint: str = "") -> None:
        super().__init__(problem)
        self.part, self.hint = part, hint


class Unreadable(ValueError):
    """Bytes that are no value, or one that could not be written again as it was. `offset` is in the data; of a column
    it is its `row`."""

    def __init__(self, problem: str, *, offset: int = 0, row: int | None = None) -> None:
        super().__init__(problem)
        self.offset, self.row = offset, row


@dataclass(frozen=True)
class Place:
    """Where in the layout's text something stands, from 1."""

    line: int
    column: int


class FieldType:
    """A type of field. A subclass is a frozen dataclass whose values are what the layout says of it."""

    in_record: ClassVar[bool] = True  # it has bytes of its own in the record
    compound: ClassVar[bool] = False  # it holds other values
    uses: ClassVar[str] = ""  # what it needs another field for: bits, length, count, choice

    @property
    def fixed_size(self) -> int | None:
        """The bytes that it always takes; None when that changes."""
        return None

    @property
    def min_size(self) -> int:
        """The fewest bytes that it takes."""
        return self.fixed_size or 0

    @property
    def dtype(self) -> str:
        """NumPy's name of its bytes, for a type of fixed size."""
        return f"V{self.fixed_size}"

    @property
    def ending(self) -> int:
        """The bytes behind its value that end it and are no part of it."""
        return 0

    # in a record

    @property
    def sibling(self) -> str:
        """The field before it, in the same record, that it needs (see `uses`); empty for none."""
        return ""

    def with_sibling(self, name: str) -> Self:
        """The same type with another name for that field."""
        return self

    def measured(self, value: Decoded) -> int:
        """The number for that field, for types whose length or count it stores."""
        raise NotImplementedError

    def replace_inner(self, replaced: Callable[[FieldType], FieldType]) -> FieldType:
        """The same type with the types within it replaced."""
        return self

    def with_order(self, big: bool) -> FieldType:
        """The same type with its byte order, if its author gave none."""
        return self.replace_inner(lambda inner: inner.with_order(big))

    # one value

    def decode(self, data: bytes, at: int, siblings: Mapping[str, Any]) -> tuple[Decoded, int]:
        """The value that starts at `at`, and where it ends; FormatError when the bytes do not suffice."""
        return b"", at

    def encode(self, value: Decoded, siblings: Mapping[str, Any]) -> bytes:
        """The bytes of a value; InvalidValue when it cannot be stored."""
        return b""

    def blank(self) -> Decoded:
        """The value of a record that is like no other: zero, or nothing."""
        return bytes(self.fixed_size or 0)

    # generated code

    def value_at(self, at: int) -> str | None:
        """Python code for its number (or bytes) at `q + at` of `data`; None for a type that has none at a fixed
        place."""
        return None

    def number_in(self, number: str) -> str:
        """Python code for its number, from that of the field whose bits it is."""
        raise NotImplementedError

    def emit(self, code: Loop, asked: Field | None) -> None:
        """Add code that moves `q` past it; `asked` is the field whose number is needed later."""

    # columns: values of fixed size are rows of bytes, those of changing size are tails

    def column(self, rows: Array) -> tuple[Column, Texts | None]:
        """The column of rows of stored bytes; and, where it leaves something out, what that is for each row."""
        return rows, None

    def rows(self, column: Column, rest: Texts | None) -> Array:
        """The stored bytes of a column and what it leaves out; InvalidValue when a value does not fit."""
        assert not isinstance(column, Texts)
        return column

    def tails(self, data: bytes, starts: Array, lengths: Array, there: Array | None) -> Column:
        """The column of values that start at `starts` in `data`; `there`: which exist, where a condition says so."""
        return Texts(data, starts, lengths, "latin-1")

    def tail_bytes(self, column: Column, there: Array | None) -> list[bytes]:
        """The bytes of each value of a column."""
        assert isinstance(column, Texts)
        return column.raws()

    def tail_size(self, column: Column, row: int) -> int:
        """The bytes of one value of a column, without those that end it."""
        return int(column.lengths[row]) if isinstance(column, Texts) else self.fixed_size or 0


class IntegerType(FieldType):
    """A type whose values are integers: other fields may be counted by them, and words may stand for them."""

    @property
    def limits(self) -> tuple[int, int]:
        """The least and the greatest value."""
        raise NotImplementedError

    @property
    def value_bits(self) -> int:
        """The bits of its greatest value."""
        return self.limits[1].bit_length()

    def column(self, rows: Array) -> tuple[Column, Texts | None]:
        numbers = [self.decode(raw, 0, {})[0] for raw in rows_bytes(rows)]
        return np.array(numbers, np.int64), None

    def rows(self, column: Column, rest: Texts | None) -> Array:
        assert not isinstance(column, Texts)
        return np.frombuffer(b"".join([self.encode(number, {}) for number in column.tolist()]), self.dtype)

    def blank(self) -> int:
        return 0

    @property
    def numbers_dtype(self) -> np.dtype[Any]:
        """The type of a column of its numbers."""
        return np.dtype(np.int64)


@dataclass(frozen=True)
class Field:
    """A field of a record: its name, type and meaning."""

    name: str
    type: FieldType
    changes: tuple[NumberChange, ...]
    meaning: Meaning
    words: str  # the meaning as its author wrote it
    place: Place
    when: When | None = None

    @property
    def shape(self) -> str:
        """The type as its author wrote it, with its changes."""
        return " ".join(map(str, [self.type, *self.changes]))


def span(data: bytes, at: int, size: int) -> bytes:
    """`size` bytes at `at`; FormatError when there are fewer."""
    if at + size > len(data):
        raise FormatError("a record", "its bytes end within a field", offset=at)
    return data[at : at + size]


def rows_bytes(values: Array) -> list[bytes]:
    """The bytes of each element of an array."""
    size, data = values.dtype.itemsize, values.tobytes()
    return [data[at : at + size] for at in range(0, len(data), size)] if size else [b""] * len(values)


def gather_rows(data: bytes, starts: Array, dtype: np.dtype[Any]) -> Array:
    """The structures of `dtype` that start at `starts` in `data`."""
    values = np.zeros(len(starts), dtype)
    if dtype.itemsize == 0 or not len(starts):
        return values
    flat, step = np.frombuffer(data, np.uint8), np.arange(dtype.itemsize)
    for first in range(0, len(starts), GATHER):
        part = starts[first : first + GATHER]
        values[first : first + GATHER] = flat[part[:, None] + step].view(dtype)[:, 0]
    return values


def integer(text: str) -> int:
    """A number as it is written in a layout: 12, 1_000, 0x1f."""
    return int(text.replace("_", ""), 0 if text.startswith("0x") else 10)


@dataclass
class Loop:
    """The lines of a generated loop, and what its variables hold. `q` is where the record goes on, `fixed` bytes
    further.

    All of the text is made of integers and of the names of variables, so no layout can put code into it.
    """

    lines: list[str] = dataclasses.field(default_factory=list)
    indent: int = 0
    fixed: int = 0
    names: dict[str, str] = dataclasses.field(default_factory=dict)  # field -> the variable with its number
    made: int = 0

    def add(self, *lines: str) -> None:
        self.lines += [" " * self.indent + line for line in lines]

    def flush(self) -> None:
        """Bring `q` up to where the record goes on."""
        if self.fixed:
            self.add(f"q += {self.fixed}")
            self.fixed = 0

    def variable(self, expression: str) -> str:
        """A new variable with this value."""
        self.made += 1
        self.add(f"v{self.made} = {expression}")
        return f"v{self.made}"

    def block(self, head: str, kind: FieldType) -> None:
        """Go past a type under a condition or in a loop."""
        self.add(head)
        self.indent += 1
        self.type(kind)
        self.flush()
        self.add("pass")
        self.indent -= 1

    def remember(self, fields: tuple[Field, ...], field: Field, at: int) -> None:
        """Keep the numbers that later fields need of a field which starts `at` bytes from `q`."""
        wanted, number = wanted_numbers(fields), field.type.value_at(at)
        if number is None:
            return
        if field.name in wanted:
            self.names[field.name] = self.variable(changed(field, number))
        for other in fields:
            if other.type.uses == "bits" and other.type.sibling == field.name and other.name in wanted:
                self.names[other.name] = self.variable(changed(other, other.type.number_in(number)))

    def fields(self, fields: tuple[Field, ...]) -> None:
        """Go past a record within a record."""
        for field in fields:
            if not field.type.in_record:
                continue
            size = field.type.fixed_size if field.when is None else None
            if size is not None:
                self.remember(fields, field, self.fixed)
                self.fixed += size
            else:
                self.flush()
                self.field(fields, field)

    def field(self, fields: tuple[Field, ...], field: Field) -> None:
        """Go past a field of changing size, which starts at `q`."""
        wanted = field if field.name in wanted_numbers(fields) else None
        if field.when is None:
            self.type(field.type, wanted)
        elif wanted is None:
            self.block(f"if {field.when.emit(self.names)}:", field.type)
        else:
            self._sometimes(field, field.when)
        self.flush()

    def _sometimes(self, field: Field, when: When) -> None:
        """Go past a field that is there only sometimes, and whose value later fields need: None when it is not
        there."""
        value = self.variable("None")
        self.add(f"if {when.emit(self.names)}:")
        self.indent += 1
        number = field.type.value_at(0)
        if number is not None:
            self.add(f"{value} = {changed(field, number)}")
        self.type(field.type, field)
        self.flush()
        if number is None:
            self.add(f"{value} = {self.names[field.name]}")
        self.indent -= 1
        self.names[field.name] = value

    def type(self, kind: FieldType, asked: Field | None = None) -> None:
        """Go past something of a type; `asked` is the field whose number is needed later."""
        size = kind.fixed_size
        if size is not None:
            self.fixed += size
            return
        self.flush()
        kind.emit(self, asked)


def wanted_numbers(fields: tuple[Field, ...]) -> set[str]:
    """The fields of a record whose numbers other fields of it need."""
    siblings = {field.type.sibling for field in fields if field.type.sibling and field.type.uses != "bits"}
    return siblings | {test.field for field in fields if field.when is not None for test in field.when.tests}


def changed(field: Field, expression: str) -> str:
    """The code of a stored number with what the field's changes do to it."""
    for change in field.changes:
        expression = change.emit(expression)
    return expression
