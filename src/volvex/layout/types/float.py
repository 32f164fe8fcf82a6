"""`f16`, `f32`, `f64`: floating-point numbers (IEEE 754), kept as their bits."""

from __future__ import annotations

import dataclasses
import struct
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.layout.columns import Column, Texts
from volvex.layout.types._base import Array, FieldType, InvalidValue, gather_rows, rows_bytes, span

GRAMMAR = r"""
float: FLOAT_TYPE [BYTE_ORDER]
FLOAT_TYPE.2: /f(16|32|64)\b/
"""
_FORMS = {16: "<e", 32: "<f", 64: "<d"}  # of `struct`


@dataclass(frozen=True)
class Float(FieldType):
    """A floating-point number of 16, 32 or 64 bits. `big`: the highest byte comes first; None when the file says
    which."""

    bits: int
    big: bool | None

    @property
    def size(self) -> int:
        """Its bytes."""
        return self.bits // 8

    @property
    def fixed_size(self) -> int:
        return self.size

    @property
    def dtype(self) -> str:
        """NumPy's name of its bits."""
        return f"{'>' if self.big else '<'}u{self.size}"

    def with_order(self, big: bool) -> Float:
        return dataclasses.replace(self, big=big) if self.big is None else self

    @property
    def _order(self) -> Any:
        return "big" if self.big else "little"

    def decode(self, data: bytes, at: int, siblings: Mapping[str, Any]) -> tuple[str, int]:
        return float_of(int.from_bytes(span(data, at, self.size), self._order), self.bits), at + self.size

    def blank(self) -> float:
        return 0.0

    def encode(self, value: Any, siblings: Mapping[str, Any]) -> bytes:
        return bits_of_float(value, self.bits).to_bytes(self.size, self._order)

    def tails(self, data: bytes, starts: Array, lengths: Array, there: Array | None) -> Column:
        assert there is not None  # without a condition its size is fixed
        values = np.zeros(len(starts), self.dtype)
        values[there] = gather_rows(data, starts[there], np.dtype([("n", self.dtype)]))["n"]
        return values

    def tail_bytes(self, column: Column, there: Array | None) -> list[bytes]:
        assert there is not None and not isinstance(column, Texts)
        return [raw if exists else b"" for raw, exists in zip(rows_bytes(column), there.tolist(), strict=True)]

    def __str__(self) -> str:
        return f"f{self.bits}"


RULES = {"float": lambda parts: Float(int(parts[0][1:]), None if parts[1] is None else parts[1] == "big")}


def float_of(number: int, bits: int) -> str:
    """A floating-point number as text, from its bits; `nan:` and its bits for a NaN that is not the usual one."""
    form, raw = _FORMS[bits], number.to_bytes(bits // 8, "little")
    value = struct.unpack(form, raw)[0]
    if value != value and struct.pack(form, value) != raw:
        return f"nan:{raw[::-1].hex()}"
    return f"{value:.9g}" if bits < 64 else repr(value)


def bits_of_float(value: str | float, bits: int) -> int:
    """The bits of a floating-point number, given as a number or as `float_of` writes it."""
    if isinstance(value, str) and value.startswith("nan:"):
        return int(value[4:], 16)
    try:
        return int.from_bytes(struct.pack(_FORMS[bits], float(value)), "little")
    except (OverflowError, ValueError) as error:
        raise InvalidValue(f"{value}, a number within {bits} bits fits") from error
