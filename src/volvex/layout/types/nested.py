"""The name of a record: a record within a record."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

from volvex.layout.types._base import Field, FieldType, Loop, Place
from volvex.layout.types.bits import Bits

GRAMMAR = "named: WORD\n"


@dataclass(frozen=True)
class Nested(FieldType):
    """The fields of the record `record`."""

    compound: ClassVar[bool] = True
    record: str
    fields: tuple[Field, ...]
    place: Place

    @property
    def fixed_size(self) -> int | None:
        sizes = [None if field.when else field.type.fixed_size for field in self.fields if field.type.in_record]
        return None if None in sizes else sum(size or 0 for size in sizes)

    @property
    def min_size(self) -> int:
        return sum(field.type.min_size for field in self.fields if field.when is None)

    def replace_inner(self, replaced: Callable[[FieldType], FieldType]) -> Nested:
        fields = tuple(dataclasses.replace(field, type=replaced(field.type)) for field in self.fields)
        return dataclasses.replace(self, fields=fields)

    def decode(self, data: bytes, at: int, siblings: Mapping[str, Any]) -> tuple[dict[str, Any], int]:
        values: dict[str, Any] = {}
        for _, _, end in decode_fields(self.fields, data, at, values):
            at = end
        return values, at

    def encode(self, value: Any, siblings: Mapping[str, Any]) -> bytes:
        """The record's bytes: bits put into the number that holds them, lengths and counts measured."""
        values = dict(value)
        for field in self.fields:
            kind = field.type
            if field.name not in values or not kind.sibling:
                continue
            if isinstance(kind, Bits):
                values[kind.host] = kind.put_into(values[kind.host], values[field.name])
            elif kind.uses in ("length", "count"):
                values[kind.sibling] = kind.measured(values[field.name])
        return b"".join(
            field.type.encode(values[field.name], values)
            for field in self.fields
            if field.type.in_record and exists(field, values)
        )

    def blank(self) -> dict[str, Any]:
        return {field.name: field.type.blank() for field in self.fields}

    def emit(self, code: Loop, asked: Field | None) -> None:
        outside, code.names = code.names, {}
        code.fields(self.fields)
        code.flush()
        code.names = outside

    def __str__(self) -> str:
        return self.record


def exists(field: Field, values: Mapping[str, Any]) -> bool:
    """Whether a field is in a record with these values."""
    return field.when is None or field.when.asked(
        lambda test: test.field in values and bool(test.test(values[test.field]))
    )


def decode_fields(
    fields: tuple[Field, ...], data: bytes, at: int, values: dict[str, Any]
) -> Iterator[tuple[Field, int, int]]:
    """Put the values of a record's fields into `values`; yields each field that exists with its start and end.

    FormatError when the bytes do not suffice.
    """
    for field in fields:
        if isinstance(field.type, Bits):
            values[field.name] = field.type.taken_from(values[field.type.host])
        elif field.type.in_record and exists(field, values):
            start = at
            values[field.name], at = field.type.decode(data, at, values)
            yield field, start, at


RULES = {"named": lambda parts: Nested(str(parts[0]), (), Place(parts[0].line or 0, parts[0].column or 0))}
