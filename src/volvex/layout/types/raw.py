"""`12 bytes`: a fixed number of bytes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from volvex.layout.types._base import FieldType, InvalidValue, integer, span

GRAMMAR = 'raw: NUMBER "bytes"\n'


@dataclass(frozen=True)
class Raw(FieldType):
    """`size` bytes."""

    size: int

    @property
    def fixed_size(self) -> int:
        return self.size

    def decode(self, data: bytes, at: int, siblings: Mapping[str, Any]) -> tuple[bytes, int]:
        return span(data, at, self.size), at + self.size

    def encode(self, value: Any, siblings: Mapping[str, Any]) -> bytes:
        if len(value) != self.size:
            raise InvalidValue(f"{len(value)} bytes, {self.size} fit")
        return bytes(value)

    def value_at(self, at: int) -> str:
        return f"data[q + {at}:q + {at + self.size}]"

    def __str__(self) -> str:
        return f"{self.size} bytes"


RULES = {"raw": lambda parts: Raw(integer(parts[0]))}
