"""A stretch of bytes of a file, and what it is."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Stretch:
    """Bytes of a file and what they are: a field, content, padding, or unexplained.

    `within` names the wrapped part that they lie in; then places count from its start. A `bits` stretch lies in
    another.
    """

    start: int
    size: int
    what: str  # field, content, padding, unexplained, part, bits
    name: str  # such as directory[3].size, or the entry's name
    shape: str = ""
    value: str = ""
    meaning: str = ""
    within: str = ""
