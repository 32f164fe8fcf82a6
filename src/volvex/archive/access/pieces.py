"""One archive cut into numbered pieces: found side by side, read where they lie, written back in pieces of the same
size.

All pieces but the last have one size, and the first does not open by itself.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from volvex.archive.access.numbered import NUMBERED, Cut, numbered
from volvex.archive.archive import Archive
from volvex.errors import FormatError
from volvex.source import FileSource, JoinedSource, Source

MOST = 9999

Sibling = Callable[[str], Path | None]  # where a file of that name beside the first is


def beside(path: Path) -> Sibling:
    """Files in the same folder."""

    def find(name: str) -> Path | None:
        other = path.with_name(name)
        return other if other.is_file() else None

    return find


def pieces_of(name: str, path: Path, sibling: Sibling) -> list[tuple[str, Path]]:
    """The pieces of which a file is the first; empty when it does not look like that."""
    match = NUMBERED.fullmatch(name)
    if match is None or int(match[2]) > 1:
        return []
    found = [(name, path)]
    while len(found) < MOST and (other := sibling(numbered(name, len(found)))) is not None:
        found.append((numbered(name, len(found)), other))
    sizes = [path.stat().st_size for _, path in found]
    if not sizes[0]:
        return []
    count = next((at for at, size in enumerate(sizes) if size != sizes[0]), len(sizes))
    if count < len(sizes) and 0 < sizes[count] < sizes[0]:  # the last one; what follows it is no piece
        count += 1
    return found[:count] if count > 1 else []


def first_of(name: str, exists: Callable[[str], bool]) -> str | None:
    """The name of the first of the pieces of which a file would be one; None when there is none such."""
    match = NUMBERED.fullmatch(name)
    if match is None:
        return None
    before, digits, after = match.groups()
    names = (f"{before}{number:0{len(digits)}}{after}" for number in (0, 1) if number < int(digits))
    return next((name for name in names if exists(name)), None)


def _close(whole: JoinedSource) -> None:
    """Let go of all pieces but the first, which is not ours."""
    for part in whole.parts[1:]:
        part.close()


def open_pieces(
    path: Path, source: Source, opened: Callable[[Source], Archive | None], sibling: Sibling | None = None
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
    except BaseException:
        _close(whole)
        raise
    if archive is None:
        _close(whole)
        return None
    archive.parts = whole.parts
    archive.cut = Cut(tuple(name for name, _ in found), source.size)
    return archive


def first_in(children: Sequence[Path]) -> Path | None:
    """The first of the pieces in a folder that holds nothing else, given all that is in it."""
    first = next((child for child in children if child.is_file() and pieces_of(child.name, child, beside(child))), None)
    return first if first is not None and len(pieces_of(first.name, first, beside(first))) == len(children) else None
