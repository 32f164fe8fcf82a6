"""Well-known open files and compressed streams inside other files: found by their marks, and measured.

Each kind has a mark and a way to tell where such a file ends; what cannot be measured is told without a size. Reads a
bounded stretch of the file that is looked through.
"""

from __future__ import annotations

import functools
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from volvex.archive.detect.types import FileType, all_types
from volvex.source import Source

WINDOW = 1 << 23  # bytes that are looked through from the start
MOST_TRIES, MOST_FOUND = 40_000, 1000


@dataclass(frozen=True)
class Find:
    """A file inside another. `size` is None when nothing tells it; `holds` is what a compressed stream holds."""

    offset: int
    kind: str
    size: int | None
    holds: int | None = None


# each begins with a plain byte, and there is no group: only then are places where none can begin passed by quickly
@functools.cache
def _beginnings() -> re.Pattern[bytes]:
    return re.compile(b"|".join(kind.embedded for kind in all_types() if kind.embedded), re.S)


@functools.cache
def _each() -> list[tuple[FileType, Any]]:
    return [(kind, re.compile(kind.embedded, re.S).fullmatch) for kind in all_types() if kind.embedded]


def finds(source: Source, start: int = 0, window: int = WINDOW) -> Iterator[Find]:
    """Files inside a file, in their order; what lies within one that was found is not looked for."""
    data = source.peek(start, window)
    done = tries = found = 0
    begins = _beginnings()
    place = begins.search(data)
    while place is not None and tries < MOST_TRIES and found < MOST_FOUND:
        kind = next(kind for kind, matches in _each() if matches(place[0]))
        tries += 1
        told = kind.measure(source, start + place.start()) if kind.measure is not None else None
        if told is not None:
            found += 1
            yield Find(start + place.start(), kind.name, *told)
        done = place.start() + (told[0] if told is not None and told[0] else 1)
        place = begins.search(data, done)
