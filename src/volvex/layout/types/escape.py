"""`u8 escape 0xff u32`: a small number, or a marker and then a large one."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.layout.columns import Column, Texts
from volvex.layout.types._base import Array, Field, IntegerType, InvalidSyntax, Loop, Unreadable, changed, integer
from volvex.layout.types.number import Number

GRAMMAR = """
escape: number "escape" NUMBER number
"""


@dataclass(frozen=True)
class Escape(IntegerType):
    """A `small` number, or the number `marker` in its place and behind it a `large` one."""

    small: Number
    marker: int
    large: Number

    @property
    def min_size(self) -> int:
        return self.small.size

    @property
    def limits(self) -> tuple[int, int]:
        return 0, self.large.limits[1]

    def with_order(self, big: bool) -> Escape:
        return dataclasses.replace(self, small=self.small.with_order(big), large=self.large.with_order(big))

    def is_small(self, numbers: Any) -> Any:
        """Whether a number, or each of an array, has room in the small one."""
        return (numbers <= self.small.limits[1]) & (numbers != self.marker)

    def decode(self, data: bytes, at: int, siblings: Mapping[str, Any]) -> tuple[int, int]:
        number, at = self.small.decode(data, at, siblings)
        return self.large.decode(data, at, siblings) if number == self.marker else (number, at)

    def encode(self, value: Any, siblings: Mapping[str, Any]) -> bytes:
        if isinstance(value, int) and self.is_small(value):
            return self.small.encode(value, siblings)
        return self.small.encode(self.marker, siblings) + self.large.encode(value, siblings)

    def emit(self, code: Loop, asked: Field | None) -> None:
        code.add(f"n = {self.small.value_at(0)}", f"q += {self.small.size}", f"if n == {self.marker}:")
        code.add(f" n = {self.large.value_at(0)}", f" q += {self.large.size}")
        if asked is not None:
            code.names[asked.name] = code.variable(changed(asked, "n"))

    def tails(self, data: bytes, starts: Array, lengths: Array, there: Array | None) -> Column:
        """The numbers; Unreadable for one behind a marker that it does not need."""
        if there is not None:
            return super().tails(data, starts, lengths, there)
        numbers = np.array([self.decode(data, at, {})[0] for at in starts.tolist()], np.int64)
        wrong = self.is_small(numbers) & (lengths > self.small.size)
        if wrong.any():
            row = int(np.argmax(wrong))
            raise Unreadable(
                f"{numbers[row]} is written behind {self.marker}, which it does not need", offset=int(starts[row])
            )
        return numbers

    def tail_bytes(self, column: Column, there: Array | None) -> list[bytes]:
        if isinstance(column, Texts):
            return column.raws()
        return [self.encode(number, {}) for number in column.tolist()]

    def tail_size(self, column: Column, row: int) -> int:
        if isinstance(column, Texts):
            return super().tail_size(column, row)
        return len(self.encode(int(column[row]), {}))

    def __str__(self) -> str:
        return f"{self.small} escape {self.marker} {self.large}"


def _escape(parts: list[Any]) -> Escape:
    small, marker, large = parts
    if small.signed or large.signed or not 0 <= integer(marker) <= small.limits[1] or large.bits <= small.bits:
        raise InvalidSyntax(
            marker,
            "the marker is one of the small numbers, and the number behind it has more bits",
            "u8 escape 0xff u32",
        )
    return Escape(small, integer(marker), large)


RULES = {"escape": _escape}
