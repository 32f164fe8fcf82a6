"""Scenes: objects with ids, each of a type that says which fields it has, which refer to each other."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.layout.kinds._data import DataKind, Problem, roles_of_rows
from volvex.layout.model import Layout


def _check(layout: Layout) -> Iterator[Problem]:
    """What a scene's layout needs besides its values: an id for each object; the fields of a type follow its number."""
    for block, lines in roles_of_rows(layout):
        if "id" not in lines:
            yield block.place, f"the objects of {block.name} have no id", "u32  key"
        for role in ("type", "name"):
            if lines.count(role) > 1:
                yield block.place, f"{block.name} has two fields for the {role} of an object", "`value`"


DATA_KIND = DataKind(("id", "type", "name", "value", "hidden"), _check)
