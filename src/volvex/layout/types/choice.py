"""`choice by FIELD { 1 lamp, 2 bell }`: one of several records, by a number."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, ClassVar

from volvex.errors import FormatError
from volvex.layout.types._base import Field, FieldType, InvalidSyntax, InvalidValue, Loop
from volvex.layout.types.nested import Nested

GRAMMAR = 'choice: "choice" "by" WORD table\n'


@dataclass(frozen=True)
class Choice(FieldType):
    """One of `records`, which are those of the table in its order, by the number of the field `by`."""

    compound: ClassVar[bool] = True
    uses: ClassVar[str] = "choice"
    by: str
    table: tuple[tuple[int, str], ...]
    records: tuple[Nested, ...] = ()

    @property
    def min_size(self) -> int:
        return min((record.min_size for record in self.records), default=0)

    @property
    def sibling(self) -> str:
        return self.by

    def with_sibling(self, name: str) -> Choice:
        return dataclasses.replace(self, by=name)

    def replace_inner(self, replaced: Callable[[FieldType], FieldType]) -> Choice:
        records = [replaced(record) for record in self.records]
        return dataclasses.replace(self, records=tuple(record for record in records if isinstance(record, Nested)))

    def chosen(self, number: int) -> Nested | None:
        """The record that a number stands for."""
        pairs = zip(self.table, self.records, strict=True)
        return next((record for (key, _), record in pairs if key == number), None)

    def decode(self, data: bytes, at: int, siblings: Mapping[str, Any]) -> tuple[dict[str, Any], int]:
        record = self.chosen(siblings[self.by])
        if record is None:
            raise FormatError("a choice", f"{siblings[self.by]} stands for no record", offset=at)
        return record.decode(data, at, {})

    def encode(self, value: Any, siblings: Mapping[str, Any]) -> bytes:
        record = self.chosen(siblings[self.by])
        if record is None:
            raise InvalidValue(f"{siblings[self.by]} stands for no record")
        return record.encode(value, {})

    def blank(self) -> dict[str, Any]:
        return self.records[0].blank()

    def emit(self, code: Loop, asked: Field | None) -> None:
        word = "if"
        for (number, _), record in zip(self.table, self.records, strict=True):
            code.block(f"{word} {code.names[self.by]} == {number}:", record)
            word = "elif"
        code.add("else: raise ValueError")

    def __str__(self) -> str:
        return f"choice by {self.by}"


def _choice(parts: list[Any]) -> Choice:
    by, table = parts
    if any(isinstance(key, bytes) for key, _ in table):
        raise InvalidSyntax(by, "the table in braces gives words for numbers", "{ 0 none, 1 zlib }")
    return Choice(str(by), table)


RULES = {"choice": _choice}
