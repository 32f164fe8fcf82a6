"""Expressions: what a number, a text or some bytes are, out of fields, facts of entries, measurements and checksums.

A field that `is` an expression is checked on reading and written again; a fact or a measurement that no field stores
`reads as` one. Values are ints, bytes, or a column of them (an array of Python's ints, a list of bytes), so that
nothing is ever cut to some width.
"""

from __future__ import annotations

import functools
import operator
import string
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np

from volvex.errors import VolvexError
from volvex.layout.columns import Array

Value = Any  # an int, bytes, an array of ints, or a list of bytes
_LOWER = {ord(text): text.lower() for text in string.ascii_uppercase}
_UPPER = {ord(text): text.upper() for text in string.ascii_lowercase}
MOST_SHIFT = 64  # bits; a larger shift would only make memory


@dataclass(frozen=True)
class Literal:
    """A number or some bytes."""

    value: int | bytes


@dataclass(frozen=True)
class FieldOf:
    """The true value of a field: of the same record, or `block.field`."""

    name: str


@dataclass(frozen=True)
class NameOf:
    """An entry's name or a part of it: its whole path (`name`), its `leaf`, `folder` or `extension`.

    `case` is lower or upper, `separator` the one that it gets, `encoding` another than the archive's own; all may be
    empty.
    """

    part: str
    case: str = ""
    separator: str = ""
    encoding: str = ""

    def of(self, raw: bytes, encoding: str) -> bytes:
        """The bytes of it, of a name that is stored in an encoding."""
        wide = encoding.startswith(("utf-16", "utf-32"))
        errors = "surrogatepass" if wide else "surrogateescape"
        text = raw.decode(encoding, errors)
        if self.part != "name":
            folder, _, leaf = text.replace("\\", "/").rpartition("/")
            extension = leaf.rpartition(".")[2] if "." in leaf else ""
            text = {"leaf": leaf, "folder": folder, "extension": extension}[self.part]
        if self.separator:
            text = text.replace("\\", "/").replace("/", self.separator)
        text = text.translate({"lower": _LOWER, "upper": _UPPER}.get(self.case, {}))
        return text.encode(self.encoding or encoding, errors)


@dataclass(frozen=True)
class MeasureOf:
    """The `count`, `start`, `end`, `length` or `stored length` of a part, or the length of the file."""

    what: str
    part: str


@dataclass(frozen=True)
class FactOf:
    """A fact of an entry: where its content starts and ends, its sizes, its number."""

    what: str


@dataclass(frozen=True)
class BytesOf:
    """The stored bytes of a block or part."""

    part: str


@dataclass(frozen=True)
class SumOf:
    """A checksum over a block or part, over an entry's `content` or `stored content`, or over some bytes."""

    algorithm: str
    of: str | Expression

    @property
    def over_content(self) -> bool:
        """Whether it covers content, so that only reading that gives it."""
        return self.of in ("content", "stored content")


@dataclass(frozen=True)
class Made:
    """Something made of others: see `HOW`."""

    how: str
    operands: tuple[Expression, ...]


Expression = Literal | FieldOf | NameOf | MeasureOf | FactOf | BytesOf | SumOf | Made


class Scope(Protocol):
    """What expressions are asked of: a file as it was read, or as it is being written, and a block of it."""

    def field(self, name: str) -> Value:
        """The true values of a field: a column of its records, one value where its block is a single record."""

    def is_column(self, expression: Expression) -> bool:
        """Whether an expression has a value for each record of the own block."""

    def measure(self, what: str, part: str) -> int:
        """A measurement of a part."""

    def fact(self, what: str) -> Array:
        """A fact of all entries."""

    def names(self) -> tuple[list[bytes], str]:
        """The names of all entries, and their encoding."""

    def bytes_of(self, part: str) -> bytes:
        """The stored bytes of a block or part."""

    def sum_of(self, algorithm: str, data: bytes) -> int:
        """A checksum over some bytes."""

    def content_sum(self, algorithm: str, part: str) -> Array:
        """A checksum over the content of all entries."""


def walk(expression: Expression) -> Iterator[Expression]:
    """An expression and all that it is made of."""
    yield expression
    if isinstance(expression, Made):
        for operand in expression.operands:
            yield from walk(operand)
    elif isinstance(expression, SumOf) and not isinstance(expression.of, str):
        yield from walk(expression.of)


def sums_over_content(expression: Expression) -> list[tuple[str, str]]:
    """The checksums over content in an expression: the algorithm, and `content` or `stored content`."""
    return [
        (one.algorithm, one.of)
        for one in walk(expression)
        if isinstance(one, SumOf) and isinstance(one.of, str) and one.over_content
    ]


def value_of(expression: Expression, scope: Scope) -> Value:
    """The value of an expression; VolvexError when it has none."""
    if isinstance(expression, Literal):
        return expression.value
    if isinstance(expression, FieldOf):
        return scope.field(expression.name)
    if isinstance(expression, MeasureOf):
        return scope.measure(expression.what, expression.part)
    if isinstance(expression, FactOf):
        return scope.fact(expression.what)
    if isinstance(expression, NameOf):
        raws, encoding = scope.names()
        return [expression.of(raw, encoding) for raw in raws]
    if isinstance(expression, BytesOf):
        return scope.bytes_of(expression.part)
    if isinstance(expression, SumOf):
        return _sum(expression, scope)
    return _made(expression, scope)


def _sum(expression: SumOf, scope: Scope) -> Value:
    algorithm, of = expression.algorithm, expression.of
    if not isinstance(of, str):
        data = value_of(of, scope)
        if isinstance(data, list):
            return numbers([scope.sum_of(algorithm, one) for one in data])
        return scope.sum_of(algorithm, data)
    if expression.over_content:
        return scope.content_sum(algorithm, of)
    return scope.sum_of(algorithm, scope.bytes_of(of))


def numbers(values: Any) -> Array:
    """A column of Python's ints."""
    made = np.empty(len(values), object)
    made[:] = values.tolist() if isinstance(values, np.ndarray) else values
    return made


def _made(expression: Made, scope: Scope) -> Value:
    how, operands = expression.how, expression.operands
    if how in ("total", "smallest", "largest"):
        return _gathered(how, value_of(operands[0], scope), scope.is_column(operands[0]))
    if how in ("previous", "next"):
        return _beside(how, value_of(operands[0], scope))
    if how == "at":
        return _picked(*(value_of(one, scope) for one in operands))
    if how == "if":
        return _chosen(*(value_of(one, scope) for one in operands))
    if how == "length":
        data = value_of(operands[0], scope)
        return numbers([len(one) for one in data]) if isinstance(data, list) else len(data)
    return functools.reduce(_HOW[how], [value_of(one, scope) for one in operands])


def _gathered(how: str, values: Value, column: bool) -> Value:
    """Of a column of the own record what all up to each record come to; of another block what all of it does."""
    if not isinstance(values, np.ndarray):
        return values
    found = {"total": np.add, "smallest": np.minimum, "largest": np.maximum}[how]
    if column:
        return found.accumulate(values) if len(values) else values
    return found.reduce(values) if len(values) else 0


def _beside(how: str, values: Value) -> Value:
    """The value of the record before or behind each; 0 where there is none."""
    if not isinstance(values, np.ndarray) or not len(values):
        return values
    made = np.zeros(len(values), object)
    if how == "previous":
        made[1:] = values[:-1]
    else:
        made[:-1] = values[1:]
    return made


def _picked(values: Value, index: Value) -> Value:
    """The values of some rows, from 0; 0 for a row that is not there."""
    if not isinstance(values, np.ndarray | list):
        return values
    blank: Any = b"" if isinstance(values, list) else 0

    def pick(number: int) -> Any:
        return values[number] if 0 <= number < len(values) else blank

    if not isinstance(index, np.ndarray):
        return pick(index)
    found = [pick(number) for number in index.tolist()]
    return found if isinstance(values, list) else numbers(found)


def _chosen(condition: Value, one: Value, other: Value) -> Value:
    if not isinstance(condition, np.ndarray):
        return one if condition else other
    rows = [
        [values[row] if isinstance(values, np.ndarray | list) else values for row in range(len(condition))]
        for values in (one, other)
    ]
    found = [first if told else second for told, first, second in zip(condition, *rows, strict=True)]
    return found if found and isinstance(found[0], bytes) else numbers(found)


def _each(operation: Callable[[Any, Any], Any]) -> Callable[[Value, Value], Value]:
    """An operation on ints or bytes, done for each of a column."""

    def done(left: Value, right: Value) -> Value:
        if not isinstance(left, np.ndarray | list) and not isinstance(right, np.ndarray | list):
            return int(operation(left, right))
        length = len(left) if isinstance(left, np.ndarray | list) else len(right)
        lefts = left if isinstance(left, np.ndarray | list) else [left] * length
        rights = right if isinstance(right, np.ndarray | list) else [right] * length
        return numbers([int(operation(one, two)) for one, two in zip(lefts, rights, strict=True)])

    return done


def _divided(left: int, right: int) -> int:
    return left // right if right else 0


def _rest(left: int, right: int) -> int:
    return left % right if right else 0


def _rounded(number: int, unit: int) -> int:
    return number + -number % unit if unit > 0 else number


def _shifted(left: int, right: int, way: Callable[[int, int], int]) -> int:
    if not 0 <= right <= MOST_SHIFT:
        raise VolvexError(f"a number is shifted by 0 to {MOST_SHIFT} bits, not by {right}")
    return way(left, right)


def _native(operation: Callable[[Any, Any], Any]) -> Callable[[Value, Value], Value]:
    """An operation that arrays of ints do by themselves."""
    each = _each(operation)

    def done(left: Value, right: Value) -> Value:
        if isinstance(left, list) or isinstance(right, list):
            return each(left, right)
        return operation(left, right)

    return done


_HOW: dict[str, Callable[[Value, Value], Value]] = {
    "+": _native(operator.add),
    "-": _native(operator.sub),
    "*": _native(operator.mul),
    "/": _each(_divided),
    "mod": _each(_rest),
    "and": _native(operator.and_),
    "or": _native(operator.or_),
    "xor": _native(operator.xor),
    "<<": _each(functools.partial(_shifted, way=operator.lshift)),
    ">>": _each(functools.partial(_shifted, way=operator.rshift)),
    "rounded": _each(_rounded),
    "least": _each(min),
    "most": _each(max),
    "is": _each(operator.eq),
    "is not": _each(operator.ne),
    ">=": _each(operator.ge),
    "<=": _each(operator.le),
    ">": _each(operator.gt),
    "<": _each(operator.lt),
    "has": _each(lambda number, bits: (number & bits) != 0),
}
COMPARISONS = ("is", "is not", ">=", "<=", ">", "<", "has")
