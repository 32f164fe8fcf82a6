"""Names with a number in them, as the pieces of an archive have that was cut up."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

NUMBERED = re.compile(r"(.*?)(\d+)(\D*)", re.S)


@dataclass(frozen=True)
class Cut:
    """How an archive is cut: the pieces' names, and the size of all but the last."""

    names: tuple[str, ...]
    size: int

    def name(self, index: int) -> str:
        """The name of a piece; those behind the last go on counting."""
        return self.names[index] if index < len(self.names) else numbered(self.names[0], index)

    def spans(self, size: int) -> Iterator[tuple[str, int, int]]:
        """The pieces of an archive of that size: name, start, end."""
        for index, start in enumerate(range(0, size, self.size)):
            yield self.name(index), start, min(size, start + self.size)


def is_numbered(first: str) -> bool:
    """Whether a name is that of a first piece."""
    match = NUMBERED.fullmatch(first)
    return match is not None and int(match[2]) <= 1


def numbered(first: str, index: int) -> str:
    """The name of a piece, from that of the first."""
    match = NUMBERED.fullmatch(first)
    assert match is not None
    before, digits, after = match.groups()
    return f"{before}{int(digits) + index:0{len(digits)}}{after}"
