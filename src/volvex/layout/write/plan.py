"""What is to be different in a file, and the file that comes of it as pieces in order."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

import numpy as np

from volvex.source import Source

ChecksumKey = tuple[str, str]  # algorithm, "stored content" or "content"


@dataclass(frozen=True)
class NewContent:
    """Content that is not in the original: its stored bytes lie in a source."""

    source: Source
    offset: int
    stored: int
    size: int
    codec: str
    checksums: Mapping[ChecksumKey, int]
    facts: Mapping[str, int] = field(default_factory=dict)  # others that the directory has of it: of a sound its rate


@dataclass(frozen=True)
class Added:
    """A new entry. What nobody knows about it is taken from the entry `like` (a row). Its record stands behind that of
    `after`."""

    name: bytes
    like: int
    content: NewContent
    after: int | None = None


@dataclass
class Edit:
    """What is to be different from the original; rows count from 0 in the directory's order."""

    replaced: dict[int, NewContent] = field(default_factory=dict)
    added: list[Added] = field(default_factory=list)
    removed: set[int] = field(default_factory=set)


@dataclass(frozen=True)
class Piece:
    """A stretch of the new file: bytes, or a span of a source."""

    data: bytes = b""
    source: Source | None = None
    offset: int = 0
    size: int = 0

    @classmethod
    def of(cls, data: bytes) -> Piece:
        return cls(data=data, size=len(data))

    def read(self, offset: int, size: int) -> bytes:
        """Some bytes of it."""
        if self.source is None:
            return self.data[offset : offset + size]
        return self.source.read(self.offset + offset, size)

    def chunks(self) -> Iterator[bytes]:
        """All of it in pieces."""
        if self.source is None:
            yield self.data
        else:
            yield from self.source.chunks(self.offset, self.size)


BLANK = -1  # the row that a new entry is like when there is none


@dataclass(frozen=True)
class Plan:
    """The new file as pieces in order."""

    pieces: list[Piece]
    size: int
    held: tuple[Source, ...] = ()  # temporary files that the pieces need
    others: Mapping[str, Plan] = field(default_factory=dict)  # files beside it that are rewritten too, by name

    def chunks(self) -> Iterator[bytes]:
        """The new file's bytes."""
        for piece in self.pieces:
            yield from piece.chunks()

    def between(self, start: int, end: int) -> Iterator[bytes]:
        """Some of the new file's bytes."""
        at = 0
        for chunk in self.chunks():
            first, last = max(start, at), min(end, at + len(chunk))
            if first < last:
                yield chunk[first - at : last - at]
            at += len(chunk)


class PlannedSource(Source):
    """A planned file, read as if it were written already."""

    def __init__(self, plan: Plan, name: str) -> None:
        self.name, self.size = name, plan.size
        self._pieces = plan.pieces
        self._ends = np.cumsum([piece.size for piece in plan.pieces]) if plan.pieces else np.zeros(0, np.int64)

    def _read(self, offset: int, size: int) -> bytes:
        parts, index = [], int(np.searchsorted(self._ends, offset, "right"))
        while size > 0:
            piece = self._pieces[index]
            skipped = offset - int(self._ends[index] - piece.size)
            part = min(size, piece.size - skipped)
            parts.append(piece.read(skipped, part))
            offset, size, index = offset + part, size - part, index + 1
        return b"".join(parts)
