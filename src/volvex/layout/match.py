"""Where in a file a place is, and whether a file bears the marks of a layout."""

from __future__ import annotations

import fnmatch
from collections.abc import Sequence

from volvex.errors import FormatError
from volvex.layout.model import At, Known, Layout
from volvex.source import Source

SEARCHED = 1 << 24  # bytes at the end of a file in which a mark is searched
STEP = 1 << 20


HEAD = 64


def head_of(source: Source) -> bytes:
    """The beginning of a file, in which most marks stand: to be asked for all layouts at once."""
    return source.peek(0, HEAD)


def fits(layout: Layout, source: Source, head: bytes = b"") -> bool:
    """Whether a file bears the marks by which the layout knows its files; False when it names none. `head` is its
    beginning, if known."""
    return bears(layout.known, source, head)


def bears(known: Sequence[Known], source: Source, head: bytes = b"") -> bool:
    """Whether a file bears all of some marks; False for none."""
    return bool(known) and all(_bears(source, one, head) for one in known)


def may_begin(known: Sequence[Known], byte: int) -> bool:
    """Whether a file with this first byte may bear all of some marks."""
    first = [one for one in known if not one.names and one.at.fixed and not one.at.offset]
    return all(any(not value or value[0] == byte for value in one.values) for one in first)


def _bears(source: Source, known: Known, head: bytes) -> bool:
    if known.names:
        name = source.name.rpartition("/")[2].casefold()
        return any(fnmatch.fnmatchcase(name, pattern.casefold()) for pattern in known.names)
    longest = max(map(len, known.values))
    if known.at.fixed and known.at.offset + longest <= len(head):
        return head.startswith(known.values, known.at.offset)
    try:
        start = place_of(source, known.at, known.value.decode("latin-1"))
    except FormatError:
        return False
    return source.peek(start, longest).startswith(known.values) if start <= source.size else False


def place_of(source: Source, at: At, name: str) -> int:
    """Where in a file a place is; FormatError when the file has no such place."""
    if at.mark:
        return _search_back(source, at.mark, name)
    start = source.size - at.offset if at.from_end else at.offset
    if start < 0:
        raise FormatError(
            source.name,
            f"{name} should stand {at.offset} bytes before the end, the file has {source.size}",
            hint="a fresh copy of the file: it may be cut off",
        )
    return start


def _search_back(source: Source, mark: bytes, name: str) -> int:
    """Where some bytes stand for the last time within the last megabytes of a file."""
    end, least = source.size, max(0, source.size - SEARCHED)
    while end > least:
        start = max(least, end - STEP)
        found = source.read(start, min(source.size, end + len(mark) - 1) - start).rfind(mark)
        if found >= 0:
            return start + found
        end = start
    raise FormatError(
        source.name,
        f"{name} starts with {mark!r}, which is not within the last {SEARCHED >> 20} MB",
        hint="a fresh copy of the file: it may be cut off",
    )
