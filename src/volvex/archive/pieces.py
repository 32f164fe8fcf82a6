"""One archive cut into numbered pieces: found side by side, read where they lie, written back in pieces of the same size.

All pieces but the last have one size, and the first does not open by itself.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from volvex.archive.archive import Archive
from volvex.errors import FormatError
from volvex.source import FileSource, JoinedSource, Source

_NUMBERED = re.compile(r"(.*?)(\d+)(\D*)", re.S)
MOST = 9999

Sibling = Callable[[str], Path | None]  # where a file of that name beside the first is


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


def numbered(first: str, index: int) -> str:
    """The name of a piece, from that of the first."""
    match = _NUMBERED.fullmatch(first)
    assert match is not None
    before, digits, after = match.groups()
    return f"{before}{int(digits) + index:0{len(digits)}}{after}"


def beside(path: Path) -> Sibling:
    """Files in the same folder."""

    def find(name: str) -> Path | None:
        other = path.with_name(name)
        return other if other.is_file() else None

    return find


def pieces_of(name: str, path: Path, sibling: Sibling) -> list[tuple[str, Path]]:
    """The pieces of which a file is the first; empty when it does not look like that."""
    match = _NUMBERED.fullmatch(name)
    if match is None or int(match[2]) > 1:
        return []
    found = [(name, path)]
    while len(found) < MOST and (other := sibling(numbered(name, len(found)))) is not None:
        found.append((numbered(name, len(found)), other))
    sizes = [one.stat().st_size for _, one in found]
    for count in range(len(found), 1, -1):  # what follows a smaller piece is no piece
        if len(set(sizes[: count - 1])) == 1 and 0 < sizes[count - 1] <= sizes[0]:
            return found[:count]
    return []


def first_of(name: str, exists: Callable[[str], bool]) -> str | None:
    """The name of the first of the pieces of which a file would be one; None when there is none such."""
    match = _NUMBERED.fullmatch(name)
    if match is None:
        return None
    before, digits, after = match.groups()
    names = (f"{before}{number:0{len(digits)}}{after}" for number in (0, 1) if number < int(digits))
    return next((one for one in names if exists(one)), None)


def open_pieces(
    path: Path, source: FileSource, opened: Callable[[Source], Archive | None], sibling: Sibling | None = None
) -> Archive | None:
    """The archive of which a file is the first piece; None when it is none."""
    name = source.name.rpartition("/")[2]
    found = pieces_of(name, path, sibling or beside(path))
    if not found:
        return None
    whole = JoinedSource([source, *(FileSource(other) for _, other in found[1:])], source.name)
    try:
        archive = opened(whole)
    except FormatError:
        archive = None
    if archive is None:
        for part in whole.parts[1:]:
            part.close()
        return None
    archive.parts = whole.parts
    archive.cut = Cut(tuple(name for name, _ in found), source.size)
    return archive
