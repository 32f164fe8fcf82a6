"""`columns of shape { 1 u32, 2 text_zero }`: fields that the file itself describes, one for each record of another
block."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, ClassVar

from volvex.layout.types._base import FieldType, InvalidSyntax

GRAMMAR = 'described: "columns" "of" WORD table\n'
NUMBERS = tuple(f"{sign}{bits}" for bits in (8, 16, 24, 32, 40, 48, 56, 64) for sign in "ui")
FLOATS = ("f16", "f32", "f64")
TEXTS = {f"text_{length}": f"text {length}" for length in ("u8", "u16", "u32", "zero")}
WIDE = {"text_fixed": "text {}", "bytes": "{} bytes", "digits": "digits {}"}  # as wide as the record of the column says
KNOWN = (*NUMBERS, *FLOATS, "varint", *TEXTS, *WIDE)


@dataclass(frozen=True)
class ColumnsOf(FieldType):
    """Stands for one field a record of `block`; the numbers of the table are their types. A file's own fields take its
    place."""

    compound: ClassVar[bool] = True
    block: str
    table: tuple[tuple[int, str], ...]
    big: bool | None = None

    def with_order(self, big: bool) -> ColumnsOf:
        return self if self.big is not None else replace(self, big=big)

    def type_text(self, number: int, width: int | None) -> str | None:
        """A column's type as a layout has it; None for a number that is not in the table."""
        word = dict(self.table).get(number)
        if word is None or (word in WIDE and not width):
            return None
        return WIDE[word].format(width) if word in WIDE else TEXTS.get(word, word)

    def __str__(self) -> str:
        return f"columns of {self.block}"


def _described(parts: list[Any]) -> ColumnsOf:
    block, table = parts
    for _, word in table:
        if word not in KNOWN:
            raise InvalidSyntax(block, f"{word} is no type that a column can have", f"one of {', '.join(KNOWN)}")
    return ColumnsOf(str(block), tuple((int(number), str(word)) for number, word in table))


RULES = {"described": _described}
