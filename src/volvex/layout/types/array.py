"""`array of COUNT TYPE`, `array until hex 00 TYPE`: values of one type, one behind the other."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

from volvex.layout.types._base import Field, FieldType, InvalidSyntax, InvalidValue, Loop, integer, span

GRAMMAR = """
array: "array" "of" (NUMBER | WORD) _type
     | "array" "until" (STRING | hex) _type -> array_until
"""


@dataclass(frozen=True)
class ArrayType(FieldType):
    """`count` values; the count is a number or a field of the same record. With an `end` they go on until these bytes,
    which follow."""

    compound: ClassVar[bool] = True
    uses: ClassVar[str] = "count"
    of: FieldType
    count: int | str
    end: bytes = b""

    @property
    def fixed_size(self) -> int | None:
        size = self.of.fixed_size
        return self.count * size if isinstance(self.count, int) and size is not None and not self.end else None

    @property
    def min_size(self) -> int:
        return self.count * self.of.min_size + len(self.end) if isinstance(self.count, int) else 0

    @property
    def sibling(self) -> str:
        return "" if isinstance(self.count, int) else self.count

    def with_sibling(self, name: str) -> ArrayType:
        return dataclasses.replace(self, count=name)

    def measured(self, value: Any) -> int:
        return len(value)

    def replace_inner(self, replaced: Callable[[FieldType], FieldType]) -> ArrayType:
        return dataclasses.replace(self, of=replaced(self.of))

    def _counted(self, siblings: Mapping[str, Any]) -> int:
        return self.count if isinstance(self.count, int) else int(siblings[self.count])

    def decode(self, data: bytes, at: int, siblings: Mapping[str, Any]) -> tuple[list[Any], int]:
        values = []
        while self.end and span(data, at, len(self.end)) != self.end:
            value, at = self.of.decode(data, at, siblings)
            values.append(value)
        if self.end:
            return values, at + len(self.end)
        for _ in range(self._counted(siblings)):
            value, at = self.of.decode(data, at, siblings)
            values.append(value)
        return values, at

    def encode(self, value: Any, siblings: Mapping[str, Any]) -> bytes:
        if self.end:
            return b"".join(self.of.encode(element, siblings) for element in value) + self.end
        count = self._counted(siblings)
        if len(value) != count:
            raise InvalidValue(f"{len(value)} elements, {count} fit")
        return b"".join(self.of.encode(element, siblings) for element in value)

    def blank(self) -> list[Any]:
        return [self.of.blank()] * self.count if isinstance(self.count, int) else []

    def emit(self, code: Loop, asked: Field | None) -> None:
        if self.end:
            mark = f"bytes.fromhex('{self.end.hex()}')"
            code.block(f"while not data.startswith({mark}, q) and q < len(data):", self.of)
            code.add("if q >= len(data): raise ValueError", f"q += {len(self.end)}")
            return
        count = str(self.count) if isinstance(self.count, int) else code.names[self.count]
        size = self.of.fixed_size
        if size is not None:
            code.add(f"q += {size} * {count}")
        else:
            code.block(f"for _ in range({count}):", self.of)

    def __str__(self) -> str:
        return f"array until {self.end!r} {self.of}" if self.end else f"array of {self.count} {self.of}"


def _array(parts: list[Any]) -> ArrayType:
    count, of = parts
    return ArrayType(of, integer(count) if count[0].isdigit() else str(count))


def _until(parts: list[Any]) -> ArrayType:
    end, of = parts
    if not isinstance(end.value, bytes) or not end.value:
        raise InvalidSyntax(end, "only bytes can end an array", "array until hex 00 point")
    return ArrayType(of, 0, end.value)


RULES = {"array": _array, "array_until": _until}
