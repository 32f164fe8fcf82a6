"""`bytes`: bytes whose size is stored elsewhere: an entry's content, or the records of another block."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from volvex.layout.types._base import FieldType

GRAMMAR = 'here: "bytes"\n'


@dataclass(frozen=True)
class InlineBytes(FieldType):
    """Bytes that lie behind the record."""

    in_record: ClassVar[bool] = False

    def __str__(self) -> str:
        return "bytes"


RULES = {"here": lambda _: InlineBytes()}
