"""Open formats that no layout can carry: a small driver each, behind the interface that all archives have.

A driver is a file with `TITLE`, `PLACE` (the order in which drivers are asked), `WHY` (what it knows a file by), `knows(source)` (by content alone, reading
a bounded amount), and `opened(source, keys)`. Files with an underscore are what they share.
"""

from __future__ import annotations

import functools
import importlib
from pathlib import Path
from typing import Protocol

from volvex.archive.archive import Archive
from volvex.layout.keyring import Keys
from volvex.source import Source


class Format(Protocol):
    """What a driver's file offers."""

    TITLE: str
    PLACE: int
    WHY: str

    def knows(self, source: Source) -> bool:
        """Whether the file is of this format, by marks or structure."""
        ...

    def opened(self, source: Source, keys: Keys) -> Archive:
        """The archive; FormatError when it is damaged."""
        ...


@functools.cache
def formats() -> tuple[Format, ...]:
    """All drivers, in the order in which they are asked."""
    names = [path.stem for path in Path(__file__).parent.glob("[!_]*.py")]
    found: list[Format] = [importlib.import_module(f"{__name__}.{name}") for name in names]
    return tuple(sorted(found, key=lambda one: one.PLACE))


def format_of(source: Source) -> Format | None:
    """The first driver that knows a file."""
    return next((one for one in formats() if one.knows(source)), None)
