"""What was parsed of a layout before its names are known: fields, rows, and how constants are written."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from lark import Token

from volvex.layout import model


@dataclass(frozen=True)
class Field:
    """A field as it was parsed; its meaning is settled when all names are known."""

    name: Token
    type: model.FieldType
    changes: tuple[model.NumberChange, ...]
    meaning: Any
    when: model.When | None


@dataclass(frozen=True)
class Repeats:
    how: Token | bytes | None


@dataclass(frozen=True)
class Unnamed:
    """An expression whose words may not be known yet: a value that is `settled`, a few words, or something made of
    others."""

    token: Token  # where it starts
    text: str
    settled: model.Expression | None = None
    how: str = ""
    operands: tuple[Unnamed, ...] = ()

    @property
    def grouped(self) -> str:
        """Its text as a part of another."""
        return f"({self.text})" if len(self.operands) > 1 and self.how not in ("least", "most") else self.text


@dataclass(frozen=True)
class GoesOn:
    """`repeats as files`: the records of another block go on here."""

    like: str


@dataclass(frozen=True)
class Skipped:
    when: model.When


def is_order(field: Field) -> bool:
    return bool(field.meaning[0] == "phrase" and field.meaning[2] == "byte order")


def points(field: Field) -> bool:
    """Whether a field points to a text in a pool, whose length another may store."""
    words = str(field.meaning[2]) if field.meaning[0] == "phrase" else ""
    return (words.startswith("start of ") and words.endswith("name")) or " in " in words


def is_placing(one: Any) -> bool:
    return isinstance(one, tuple) and len(one) == 2 and one[0] in ("align", "fill")


def written(value: bytes | int) -> str:
    """A constant as an author would write it."""
    if isinstance(value, int):
        return str(value)
    readable = all(32 <= byte < 127 and byte not in b'"\\\\' for byte in value)
    return f'"{value.decode()}"' if readable else f"hex {value.hex(' ')}"


def at_token(token: Token) -> model.Place:
    """Where in the layout's text a token stands."""
    return model.Place(token.line or 0, token.column or 0)


def pair(place: model.Place) -> tuple[int, int]:
    return place.line, place.column


def texts_by_length(fields: Sequence[Field]) -> dict[str, tuple[str, ...]]:
    """For each field that is the length of texts these, and all that point to a text in a pool; under an empty name
    those alone."""
    lengths = {said.type.length_by for said in fields if isinstance(said.type, model.Text) and said.type.length_by}
    pointing = [said for said in fields if points(said)]
    return {
        name: tuple(
            str(said.name)
            for said in (fields if name else pointing)
            if points(said) or (isinstance(said.type, model.Text) and said.type.length_by == name)
        )
        for name in ("", *lengths)
    }


def with_rows(blocks: Sequence[model.Block]) -> tuple[model.Block, ...]:
    """The blocks, of which those that go on with the records of another have its fields."""
    by_name = {block.name: block for block in blocks if not block.like}
    return tuple(
        dataclasses.replace(block, fields=by_name[block.like].fields, sorted_by=by_name[block.like].sorted_by)
        if block.like in by_name
        else block
        for block in blocks
    )
