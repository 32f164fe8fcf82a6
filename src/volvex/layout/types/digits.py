"""`digits 8`: a number written as decimal digits in a fixed number of bytes; `digits 12 octal`, or `hexadecimal`."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.layout.columns import Column, Texts
from volvex.layout.types._base import (
    Array,
    IntegerType,
    InvalidSyntax,
    InvalidValue,
    Unreadable,
    integer,
    rows_bytes,
    span,
)

GRAMMAR = r"""
digits: DIGITS NUMBER [BASE] [SIDE] ["filled" HEX_BYTE]
DIGITS: "digits"
BASE.2: /(octal|hexadecimal)\b/
SIDE: "left"
"""
BASES = {None: 10, "octal": 8, "hexadecimal": 16}
FORMS = {10: "d", 8: "o", 16: "x"}
MOST = 18  # digits


@dataclass(frozen=True)
class Digits(IntegerType):
    """A number in digits of `base`, at the right of `size` bytes (or the left), the others being `filled`."""

    size: int
    base: int
    left: bool
    filled: int

    @property
    def fixed_size(self) -> int:
        return self.size

    @property
    def limits(self) -> tuple[int, int]:
        return 0, min(self.base**self.size, 1 << 64) - 1

    def number(self, raw: bytes) -> int:
        """The number that some bytes are; ValueError when they are none."""
        text = raw.strip(b" \0")
        if not text.isalnum():
            raise ValueError(f"{raw!r}, expected digits")
        return int(text, self.base)

    def written(self, number: int) -> bytes:
        """The bytes of a number."""
        text = format(number, FORMS[self.base]).encode()
        fill = bytes([self.filled])
        return text.ljust(self.size, fill) if self.left else text.rjust(self.size, fill)

    def decode(self, data: bytes, at: int, siblings: Mapping[str, Any]) -> tuple[int, int]:
        try:
            return self.number(span(data, at, self.size)), at + self.size
        except ValueError as error:
            raise Unreadable(str(error), offset=at) from error

    def encode(self, value: Any, siblings: Mapping[str, Any]) -> bytes:
        if not isinstance(value, int) or not 0 <= value <= self.limits[1]:
            raise InvalidValue(f"{value!r}, a whole number from 0 to {self.limits[1]} fits")
        return self.written(value)

    def value_at(self, at: int) -> str:
        return f"int(data[q + {at}:q + {at + self.size}].strip(bytes((0, 32))), {self.base})"

    def column(self, rows: Array) -> tuple[Column, Texts | None]:
        """The numbers; and the bytes of those that are written in another way, so that they stay as they are."""
        raws, numbers = rows_bytes(rows), []
        for row, raw in enumerate(raws):
            try:
                numbers.append(self.number(raw))
            except ValueError as error:
                raise Unreadable(str(error), row=row) from error
            if numbers[-1] >= 1 << 64:
                raise Unreadable(f"{numbers[-1]} has more than 64 bits", row=row)
        odd = [b"" if self.written(number) == raw else raw for number, raw in zip(numbers, raws, strict=True)]
        return np.array(numbers, self.numbers_dtype), Texts.of(odd, "latin-1") if any(odd) else None

    @property
    def numbers_dtype(self) -> np.dtype[Any]:
        return np.dtype(np.uint64 if self.limits[1] >= 1 << 63 else np.int64)

    def rows(self, column: Column, rest: Texts | None) -> Array:
        assert not isinstance(column, Texts)
        numbers = column.tolist()
        odd = rest.raws() if rest is not None else [b""] * len(numbers)
        made = [
            raw if raw and self.number(raw) == number else self.encode(number, {})
            for number, raw in zip(numbers, odd, strict=True)
        ]
        return np.frombuffer(b"".join(made), self.dtype)

    def __str__(self) -> str:
        return f"digits {self.size}"


def _digits(parts: list[Any]) -> Digits:
    _, size, base, side, filled = parts
    if not 1 <= integer(size) <= MOST:
        raise InvalidSyntax(size, f"a number has 1 to {MOST} digits", "digits 10")
    return Digits(integer(size), BASES[base], side is not None, int(filled or ("20" if base is None else "30"), 16))


RULES = {"digits": _digits}
