"""What expressions are asked of, in a file that was read: fields, measurements, and what is known of its entries."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from volvex.errors import FormatError
from volvex.layout.checksums import checksum_value, without
from volvex.layout.columns import Array, Column, Texts
from volvex.layout.expression import Expression, FactOf, FieldOf, NameOf, SumOf, Value, numbers, walk
from volvex.layout.kinds import archive as attributes
from volvex.layout.language.check.siblings import half_of
from volvex.layout.model import Attribute, Block, Field, IntegerType, Layout, Measure, Raw
from volvex.layout.read.blocks import BlockRead, Reading

Facts = Callable[[str], Array]


def true_values(column: Column, field: Field, upper: tuple[Field, Column] | None = None) -> Value:
    """A column of stored values as the true ones, of any size: numbers with their changes undone, texts and bytes as
    they are."""
    if isinstance(column, Texts):
        return column.raws()
    if not isinstance(field.type, IntegerType):
        return [value.tobytes() for value in column]
    found: Any = numbers(column)
    if upper is not None:
        found = found + numbers(np.asarray(upper[1])) * (1 << field.type.value_bits)
    for change in field.changes:
        found = change.apply(found)
    return found


def owned(expression: Expression, layout: Layout, block: Block | None) -> bool:
    """Whether an expression has a value for each record of a block: it asks a field of it or of a block whose records
    go along with it, or a fact of entries."""
    if block is None or not block.repeats:
        return False
    names = {field.name for field in block.fields}
    for other in layout.blocks:
        if layout.root(other) is layout.root(block):
            names |= {f"{other.name}.{field.name}" for field in other.fields}
    for one in walk(expression):
        over_content = isinstance(one, SumOf) and one.over_content
        if over_content or isinstance(one, FactOf | NameOf) or (isinstance(one, FieldOf) and one.name in names):
            return True
    return False


class ReadScope:
    """A file as it was read, as the fields of one block see it (or of none)."""

    def __init__(
        self,
        reading: Reading,
        block: BlockRead | None = None,
        facts: Facts | None = None,
        own: Field | None = None,
        sums: Callable[[str, str], Array] | None = None,
    ) -> None:
        self.reading, self.block, self._facts, self.own, self._sums = reading, block, facts, own, sums

    def is_column(self, expression: Expression) -> bool:
        return owned(expression, self.reading.layout, self.block.block if self.block is not None else None)

    def field(self, name: str) -> Value:
        own = self.block
        if own is not None and name in own.columns:
            values = self._values(own, name)
            return values if own.block.repeats else values[0]
        home, _, rest = name.partition(".")
        block = self.reading.blocks.get(home)
        if block is None or rest not in block.columns:
            return 0
        values = self._values(block, rest)
        if block.block.repeats:
            return values
        return values[0] if len(values) else 0

    def stored(self, field: Field) -> list[Any]:
        """What a field of the own block holds, as values."""
        assert self.block is not None
        return _listed(self._values(self.block, field.name))

    def _values(self, block: BlockRead, name: str) -> Value:
        field = next(field for field in block.block.fields if field.name == name)
        upper = half_of(block.block, field.meaning, True) if isinstance(field.meaning, Attribute | Measure) else None
        upper = None if upper is field else upper
        settled = self.reading.settled(field)
        values = true_values(block.columns[name], settled, (upper, block.columns[upper.name]) if upper else None)
        if any(change.how == "record" for change in settled.changes):
            values = values + numbers(block.starts)
        return values

    def measure(self, what: str, part: str) -> int:
        reading = self.reading
        if part == "file":
            return reading.source.size
        if part == "contents":
            return self._contents(what)
        block = reading.blocks.get(part)
        if block is None and part not in reading.areas and what in ("count", "length", "stored length"):
            return 0
        if what == "count":
            return len(block.starts) + len(block.skipped) if block is not None else 0
        if what in ("start", "end"):
            return reading.edge(what, part)
        if part in reading.areas:
            area = reading.areas[part]
            return area.stored if what == "stored length" else area.source.size
        return reading.edge("end", part) - reading.edge("start", part)

    def _contents(self, what: str) -> int:
        start, end = self.fact(attributes.START), self.fact(attributes.END)
        there = end > start
        if not there.any():
            return 0
        first = int(start[there].min())
        return first if what == "start" else int(end[there].max()) - first

    def fact(self, what: str) -> Array:
        if self._facts is None:
            raise FormatError(self.reading.source.name, f"{what} is not known yet where the layout asks for it")
        return self._facts(what)

    def names(self) -> tuple[list[bytes], str]:
        entries = self.reading.entries
        if entries is None:
            raise FormatError(self.reading.source.name, "names are not known yet where the layout asks for them")
        return entries.names.raws(), entries.names.encoding

    def bytes_of(self, part: str) -> bytes:
        reading = self.reading
        if part in reading.areas:
            area = reading.areas[part]
            return reading.source.read(area.start, area.stored)
        block = reading.blocks.get(part)
        if block is None:
            return b""
        if block.ends is not None:
            return reading.source.read(block.start, block.end - block.start)
        if self.block is not block or self.own is None or block.block.repeats:
            return block.data
        size = self.own.type.fixed_size or 0
        return without(block.data, block.offset(0, self.own.name) - block.start, size, False)

    def sum_of(self, algorithm: str, data: bytes) -> int:
        return checksum_value(algorithm, data)

    def content_sum(self, algorithm: str, part: str) -> Array:
        if self._sums is None:
            raise FormatError(self.reading.source.name, f"the {algorithm} of {part} is known only when that is read")
        return self._sums(algorithm, part)


def as_stored(value: Value, field: Field) -> Value:
    """A value of an expression as it is compared with what a field holds: a checksum as bytes where these are told."""
    if isinstance(field.type, Raw):
        size = field.type.size
        return [one.to_bytes(size, "big") if isinstance(one, int) else one for one in _listed(value)]
    return _listed(value)


def _listed(value: Value) -> list[Any]:
    return value.tolist() if isinstance(value, np.ndarray) else value if isinstance(value, list) else [value]
