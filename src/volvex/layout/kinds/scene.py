"""Scenes: objects with ids, each of a type that says which fields it has, which refer to each other."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from volvex.layout.kinds._data import check_values, value_of
from volvex.layout.meanings_of_data import rows_of_layout
from volvex.layout.model import Layout, Place, Value

ROLES = ("key", "type", "name", "value", "hidden")  # what a value can be
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
    """What a scene's layout needs besides its values: an id for each object; the fields of a type follow its number."""
    yield from check_values(layout)
    for block in rows_of_layout(layout):
        told = [one.meaning.role for one in block.fields if isinstance(one.meaning, Value)]
        if "key" not in told:
            yield block.place, f"the objects of {block.name} have no id", "u32  key"
        for role in ("type", "name"):
            if told.count(role) > 1:
                yield block.place, f"{block.name} has two fields for the {role} of an object", "`value`"
