"""Field types: one file each, with everything about a type: how it is written in a layout, its size, both directions.

GRAMMAR   the grammar rules of its text in a layout; the first rule is the type itself
RULES     rule -> function of the rule's parts (words, numbers, other types) that returns the type

A type is a frozen dataclass below `FieldType`, which lists what a type can do and what it inherits. Values go both ways
twice: one at a time (`decode`, `encode`), and as columns of many records (`column`, `rows`, `tails`, `tail_bytes`).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, Protocol

from volvex.layout.types._base import Field as Field
from volvex.layout.types._base import FieldType as FieldType
from volvex.layout.types._base import IntegerType as IntegerType
from volvex.layout.types._base import InvalidSyntax as InvalidSyntax
from volvex.layout.types._base import InvalidValue as InvalidValue
from volvex.layout.types._base import Place as Place
from volvex.layout.types._base import Unreadable as Unreadable
from volvex.registry import Registry


class FieldTypeModule(Protocol):
    GRAMMAR: str
    RULES: Mapping[str, Callable[[list[Any]], Any]]


FIELD_TYPES: Registry[FieldTypeModule] = Registry(
    "field_type", __name__, Path(__file__).parent, needs=("GRAMMAR", "RULES")
)
