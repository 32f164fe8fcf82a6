"""Tables: records of the same fields, found by a key."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from volvex.layout.kinds._data import check_values, value_of
from volvex.layout.model import Layout, Place, Value

ROLES = ("key", "value", "hidden")  # what a value can be
FACTS: dict[str, tuple[type, ...]] = {}
OF: dict[str, str] = {}
TABLED: tuple[str, ...] = ()
WORDED: tuple[str, ...] = ()
NEEDS: tuple[str, ...] = ()
PARTS: tuple[str, ...] = ()


def meaning(words: str, blocks: Sequence[str]) -> Value | None:
    """The value that a phrase means; None when it means none."""
    return value_of(words, ROLES, blocks)


def check(layout: Layout) -> Iterator[tuple[Place, str, str]]:
    """What a table's layout needs besides its values."""
    yield from check_values(layout)
