"""`varint`: a number in as many bytes as it needs, seven bits in each, the lowest first (LEB128) or the highest."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.layout.columns import Column, Texts
from volvex.layout.types._base import Array, Field, IntegerType, InvalidValue, Loop, Unreadable, changed, span

GRAMMAR = """
varint: VARINT [BYTE_ORDER]
VARINT: "varint"
"""
MOST_BYTES = 9  # of 7 bits each: no number of more than 63 bits is read


@dataclass(frozen=True)
class Varint(IntegerType):
    """A number in as many bytes as it needs; all but the last have their highest bit set."""

    big: bool

    @property
    def min_size(self) -> int:
        return 1

    @property
    def limits(self) -> tuple[int, int]:
        return 0, (1 << 62) - 1

    def decode(self, data: bytes, at: int, siblings: Mapping[str, Any]) -> tuple[int, int]:
        number, start = 0, at
        while True:
            byte = span(data, at, 1)[0]
            number = number << 7 | byte & 127 if self.big else number | (byte & 127) << 7 * (at - start)
            at += 1
            if byte < 128:
                return number, at

    def encode(self, value: Any, siblings: Mapping[str, Any]) -> bytes:
        if not isinstance(value, int) or not 0 <= value <= self.limits[1]:
            raise InvalidValue(f"{value!r}, a whole number from 0 to {self.limits[1]} fits")
        parts = [value & 127]
        while value := value >> 7:
            parts.append(value & 127)
        if self.big:
            parts.reverse()
        return bytes([*(part | 128 for part in parts[:-1]), parts[-1]])

    def emit(self, code: Loop, asked: Field | None) -> None:
        step = "n = n << 7 | b & 127" if self.big else "n |= (b & 127) << 7 * (q - s)"
        code.add(
            "b, n, s = data[q], 0, q",
            "while b > 127:",
            f" {step}",
            " q += 1",
            f" if q - s >= {MOST_BYTES}: raise ValueError",
            " b = data[q]",
            step,
            "q += 1",
        )
        if asked is not None:
            code.names[asked.name] = code.variable(changed(asked, "n"))

    def tails(self, data: bytes, starts: Array, lengths: Array, there: Array | None) -> Column:
        """The numbers; Unreadable for one that could not be written again as it is."""
        if there is not None:
            return super().tails(data, starts, lengths, there)
        flat, numbers = np.frombuffer(data, np.uint8), np.zeros(len(starts), np.int64)
        for place in range(int(lengths.max()) if len(lengths) else 0):
            longer = lengths > place
            byte = flat[starts[longer] + place].astype(np.int64) & 127
            numbers[longer] = numbers[longer] << 7 | byte if self.big else numbers[longer] | byte << 7 * place
        wrong = _sizes(numbers) != lengths
        if wrong.any():
            row = int(np.argmax(wrong))
            problem = f"{numbers[row]} is written in {lengths[row]} bytes, which is more than it needs"
            raise Unreadable(problem, offset=int(starts[row]))
        return numbers

    def tail_bytes(self, column: Column, there: Array | None) -> list[bytes]:
        if isinstance(column, Texts):
            return column.raws()
        return [self.encode(number, {}) for number in column.tolist()]

    def tail_size(self, column: Column, row: int) -> int:
        if isinstance(column, Texts):
            return super().tail_size(column, row)
        return int(_sizes(column[row : row + 1])[0])

    def __str__(self) -> str:
        return "varint"


RULES = {"varint": lambda parts: Varint(parts[1] == "big")}


def _sizes(numbers: Array) -> Array:
    """The bytes that each number takes."""
    sizes = np.ones(len(numbers), np.int64)
    for place in range(1, MOST_BYTES):
        sizes += numbers >= 1 << 7 * place
    return sizes
