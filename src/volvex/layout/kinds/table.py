"""Tables: records of the same fields, found by a key."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.layout.kinds._data import DataKind, Problem
from volvex.layout.model import Layout


def _check(layout: Layout) -> Iterator[Problem]:
    """Nothing more than any data."""
    yield from ()


DATA_KIND = DataKind(("id", "value", "hidden"), _check)
