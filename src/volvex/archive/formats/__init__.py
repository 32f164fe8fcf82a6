"""Open formats that no layout can carry: a small driver each, behind the interface that all archives have.

A driver is a file with `TITLE`, `PRIORITY` (the order in which drivers are asked), `WHY` (what it knows a file by),
`knows(source)` (by content alone, reading a bounded amount), and `opened(source, keys)`. Files with an underscore are
what they share.
"""

from __future__ import annotations

from pathlib import Path
from typing import Protocol

from volvex.archive.archive import Archive
from volvex.layout.keyring import KeyRing
from volvex.registry import Registry
from volvex.source import Source


class Format(Protocol):
    """What a driver's file offers."""

    TITLE: str
    PRIORITY: int
    WHY: str

    def knows(self, source: Source) -> bool:
        """Whether the file is of this format, by marks or structure."""
        ...

    def opened(self, source: Source, keys: KeyRing) -> Archive:
        """The archive; FormatError when it is damaged."""
        ...


FORMATS: Registry[Format] = Registry(
    "archive_format", __name__, Path(__file__).parent, needs=("TITLE", "PRIORITY", "WHY", "knows", "opened")
)


def may_begin(head: bytes) -> bool:
    """Whether an archive of some format, whole or not, begins so: by its `SIGNATURES`, for formats that have any."""
    return any(
        head.startswith(mark) for archive_format in FORMATS.all() for mark in getattr(archive_format, "SIGNATURES", ())
    )


def refuse_damaged(source: Source) -> None:
    """FormatError for a file that is certainly of some format and of which a part is missing: by its
    `refuse_damaged`."""
    for archive_format in FORMATS.all():
        getattr(archive_format, "refuse_damaged", lambda source: None)(source)


def format_of(source: Source) -> Format | None:
    """The first format, by priority, that recognises a file; None when none does."""
    return next((archive_format for archive_format in FORMATS.all() if archive_format.knows(source)), None)
