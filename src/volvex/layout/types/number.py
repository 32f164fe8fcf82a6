"""`u8` to `u64`, `i8` to `i64`: integers of 8 to 64 bits, little or big endian."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.layout.columns import Column, Texts
from volvex.layout.types._base import Array, IntegerType, InvalidValue, gather_rows, rows_bytes, span

GRAMMAR = r"""
number: NUMBER_TYPE [BYTE_ORDER]
NUMBER_TYPE.2: /[ui](8|16|24|32|40|48|56|64)\b/
"""


@dataclass(frozen=True)
class Number(IntegerType):
    """An integer of 8 to 64 bits. `big`: the highest byte comes first; None when the file says which."""

    bits: int
    signed: bool
    big: bool | None

    @property
    def size(self) -> int:
        """Its bytes."""
        return self.bits // 8

    @property
    def fixed_size(self) -> int:
        return self.size

    @property
    def native(self) -> bool:
        """Whether NumPy has numbers of this width."""
        return self.bits in (8, 16, 32, 64)

    @property
    def dtype(self) -> str:
        if not self.native:
            return f"V{self.size}"
        return f"{'>' if self.big else '<'}{'i' if self.signed else 'u'}{self.size}"

    @property
    def numbers_dtype(self) -> np.dtype[Any]:
        return np.dtype(self.dtype) if self.native else np.dtype(np.int64)

    @property
    def limits(self) -> tuple[int, int]:
        return (-(1 << self.bits - 1), (1 << self.bits - 1) - 1) if self.signed else (0, (1 << self.bits) - 1)

    def with_order(self, big: bool) -> Number:
        return dataclasses.replace(self, big=big) if self.big is None else self

    @property
    def _order(self) -> Any:
        return "big" if self.big else "little"

    def decode(self, data: bytes, at: int, siblings: Mapping[str, Any]) -> tuple[int, int]:
        return int.from_bytes(span(data, at, self.size), self._order, signed=self.signed), at + self.size

    def encode(self, value: Any, siblings: Mapping[str, Any]) -> bytes:
        low, high = self.limits
        if not isinstance(value, int) or not low <= value <= high:
            raise InvalidValue(f"{value!r}, a whole number from {low} to {high} fits")
        return value.to_bytes(self.size, self._order, signed=self.signed)

    def value_at(self, at: int) -> str:
        if self.size == 1 and not self.signed:
            return f"data[q + {at}]"
        return f"int.from_bytes(data[q + {at}:q + {at + self.size}], '{self._order}', signed={self.signed})"

    def column(self, rows: Array) -> tuple[Column, Texts | None]:
        return self.numbers(rows), None

    def numbers(self, rows: Array) -> Array:
        """Numbers from rows of their bytes; those of 24, 40, 48 and 56 bits as int64."""
        if self.native:
            return rows
        parts = np.frombuffer(rows.tobytes(), np.uint8).reshape(len(rows), self.size)
        whole = np.zeros((len(rows), 8), np.uint8)
        if self.big:
            parts = parts[:, ::-1]
        whole[:, : self.size] = parts
        if self.signed:
            whole[:, self.size :] = np.where(parts[:, -1:] > 127, 255, 0)
        return whole.view("<i8")[:, 0]

    def rows(self, column: Column, rest: Texts | None = None) -> Array:
        assert not isinstance(column, Texts)
        if self.native:
            return column.astype(self.dtype, copy=False)  # columns that were put together have the machine's order
        whole = column.astype("<i8").reshape(-1, 1).view(np.uint8)[:, : self.size]
        return np.frombuffer((whole[:, ::-1] if self.big else whole).tobytes(), self.dtype)

    def tails(self, data: bytes, starts: Array, lengths: Array, there: Array | None) -> Column:
        assert there is not None  # without a condition its size is fixed
        values = np.zeros(len(starts), self.numbers_dtype)
        values[there] = self.numbers(gather_rows(data, starts[there], np.dtype([("n", self.dtype)]))["n"])
        return values

    def tail_bytes(self, column: Column, there: Array | None) -> list[bytes]:
        assert there is not None
        stored = rows_bytes(self.rows(column))
        return [raw if exists else b"" for raw, exists in zip(stored, there.tolist(), strict=True)]

    def __str__(self) -> str:
        return f"{'i' if self.signed else 'u'}{self.bits}"


RULES = {
    "number": lambda parts: Number(
        int(parts[0][1:]), parts[0][0] == "i", None if parts[1] is None else parts[1] == "big"
    )
}
