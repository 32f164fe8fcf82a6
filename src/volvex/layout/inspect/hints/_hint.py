"""A hint."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Hint:
    """Something that a file shows: where, what, and what a layout would say (empty: nothing can say it)."""

    about: str
    seen: str
    line: str = ""
