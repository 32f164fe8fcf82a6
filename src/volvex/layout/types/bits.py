"""`FIELD bits 0 to 3`: some bits of another field of the same record."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import Any, ClassVar

from volvex.layout.types._base import IntegerType, InvalidSyntax, integer

GRAMMAR = 'bits: WORD "bits" NUMBER ["to" NUMBER]\n'


@dataclass(frozen=True)
class Bits(IntegerType):
    """The bits `low` to `high` (from 0) of the field `host`."""

    in_record: ClassVar[bool] = False
    uses: ClassVar[str] = "bits"
    host: str
    low: int
    high: int

    @property
    def limits(self) -> tuple[int, int]:
        return 0, (1 << self.high - self.low + 1) - 1

    @property
    def sibling(self) -> str:
        return self.host

    def with_sibling(self, name: str) -> Bits:
        return dataclasses.replace(self, host=name)

    def taken_from(self, number: Any) -> Any:
        """Its number, from the whole one (or from an array of unsigned whole ones)."""
        return number >> self.low & self.limits[1]

    def put_into(self, number: int, value: int) -> int:
        """The whole number with these bits set to `value`."""
        mask = self.limits[1] << self.low
        return number & ~mask | value << self.low & mask

    def number_in(self, number: str) -> str:
        return f"(({number} >> {self.low}) & {self.limits[1]})"

    def __str__(self) -> str:
        return f"{self.host} bits {self.low} to {self.high}"


def _bits(parts: list[Any]) -> Bits:
    low = integer(parts[1])
    high = low if parts[2] is None else integer(parts[2])
    if not low <= high < 64:
        raise InvalidSyntax(parts[1], f"there are no bits {low} to {high}", "the lowest bit is 0: bits 0 to 3")
    return Bits(str(parts[0]), low, high)


RULES = {"bits": _bits}
