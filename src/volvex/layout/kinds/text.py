"""Texts: what is shown to the player, by key and language, with where it is used."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.layout.kinds._data import DataKind, Problem, roles_of_rows
from volvex.layout.model import Layout


def _check(layout: Layout) -> Iterator[Problem]:
    """What a text table's layout needs besides its values: a key, and at least one text."""
    for block, lines in roles_of_rows(layout):
        if "id" not in lines or "text" not in lines:
            yield block.place, f"{block.name} has no id, or no text", "u32  id, and text u16  text"
        if lines.count("language") > 1 or ("language" in lines and lines.count("text") > 1):
            yield (
                block.place,
                f"{block.name} gives the languages twice",
                "a field `language` and one text, or a text for each language, called by it",
            )


DATA_KIND = DataKind(("id", "language", "text", "context", "value"), _check)
