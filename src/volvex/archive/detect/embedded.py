"""Archives at any place in another file, found by their marks and opened where they lie.

The file is a folder of its parts: what stands before, between and behind, and the archives. An archive that is the
last part may grow; one that something follows must keep its size, since nobody knows what tells where the rest is.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from volvex.archive.archive import Archive
from volvex.archive.detect.filetypes import is_text
from volvex.archive.formats._base import OpenFormatArchive, content_piece, entries_of, joined, span
from volvex.errors import FormatError, LockedError, RefusedError, VolvexError
from volvex.layout import Library
from volvex.layout.inspect.stretch import Stretch
from volvex.layout.match import head_of
from volvex.layout.read.blocks import measured
from volvex.layout.read.locate import locate
from volvex.layout.write.plan import Edit, Piece, Plan
from volvex.source import Beside, Source, WindowSource

HEAD, TAIL = 1 << 23, 1 << 20  # bytes that are looked through at either end of a file
LEAST = 4  # bytes of a mark that is looked for
MOST_HITS = 64
MOST_PARTS = 200
TAR_MARK, TAR_AT, ZIP_MARK = b"ustar", 257, b"PK\x03\x04"

Opener = Callable[..., "Archive | None"]


@dataclass(frozen=True)
class Part:
    """A stretch of a file: an archive, or what is between them."""

    start: int
    end: int
    title: str  # of the archive; empty for what is none


def open_embedded(source: Source, library: Library, opened: Opener) -> Archive | None:
    """A file that holds archives as a folder of its parts; None when none is found."""
    if source.size < 128 or is_text(source.peek(0, 256)):
        return None
    found = list(find_archives(source, library, opened))
    return Host(source, found) if found else None


def find_archives(source: Source, library: Library, opened: Opener) -> Iterator[Part]:
    """Archives that start within the first or the last megabytes, one behind the other."""
    marks = {
        value: known.at.offset
        for layout in library.remembered()
        if layout.kind == "archive"
        for known in layout.known
        for value in known.values
        if not known.at.from_end and not known.at.mark and len(value) >= LEAST
    }
    marks |= {TAR_MARK: TAR_AT, ZIP_MARK: 0}
    done, tries = 0, 0
    for start in _hits(source, marks):
        if start < max(done, 1):
            continue
        tries += 1
        if tries > MOST_HITS:
            return
        part = _opened_at(source, start, library, opened)
        if part is not None:
            yield part
            done = part.end


def _hits(source: Source, marks: dict[bytes, int]) -> Iterator[int]:
    pattern = re.compile(b"|".join(re.escape(mark) for mark in sorted(marks, key=len, reverse=True)))
    spans = [(0, min(HEAD, source.size))]
    if source.size > HEAD:
        spans.append((max(HEAD, source.size - TAIL), source.size))
    for first, last in spans:
        data = source.read(first, last - first)
        if not any(
            mark in data for mark in marks
        ):  # many times faster than the pattern, and mostly all there is to say
            continue
        for match in pattern.finditer(data):
            place = first + match.start() - marks[match[0]]
            if place > 0:
                yield place


def _opened_at(source: Source, start: int, library: Library, opened: Opener) -> Part | None:
    """The archive that starts at a place, and where it ends."""
    window = WindowSource(source, start, source.size - start, f"{source.name}+{start:#x}")
    number = _told_length(window, library)
    if number is not None and 0 < number <= window.size:
        window = WindowSource(source, start, number, window.name)
    try:
        archive = opened(window, library, None, False)
        if archive is None or not len(archive):
            return None
        end = archive.extent()
        if end < window.size:  # it must still open without what follows it
            exact = WindowSource(source, start, end, window.name)
            if opened(exact, library, None, False) is None:
                end = window.size
    except (FormatError, LockedError):
        return None
    return Part(start, start + end, archive.title)


def _told_length(window: Source, library: Library) -> int | None:
    """The length that the archive itself tells, by the first layout whose marks are there."""
    for layout in library.fitting(window, head_of(window)):
        try:
            return measured(locate(layout, window), "length", "file")
        except VolvexError:
            continue
    return None


class Host(OpenFormatArchive):
    """A file with archives in it, as a folder of its parts."""

    title = "parts of another file"

    def __init__(self, source: Source, found: list[Part]) -> None:
        super().__init__()
        self.source = source
        self.stretches = list(_parts(source, found))
        names = [_name(part) for part in self.stretches]
        sizes = [part.end - part.start for part in self.stretches]
        self.entries = entries_of(names, [part.start for part in self.stretches], sizes, sizes)

    def plan(self, edit: Edit, each: bool = False, folder: Path | None = None, pinned: bool = False) -> Plan:
        if edit.added or edit.removed:
            raise RefusedError(
                f"{self.source.name} is a file of parts that Volvex did not make: none can be added or left out",
                "changing what is in one of them",
            )
        pieces: list[Piece] = []
        for row, part in enumerate(self.stretches):
            if row not in edit.replaced:
                pieces.append(span(self.source, part.start, part.end))
                continue
            new, size = content_piece(edit.replaced[row]), part.end - part.start
            if new.size != size and row != len(self.stretches) - 1:
                raise RefusedError(
                    f"{self.label(row)} would have {new.size:,} bytes in place of {size:,}, and other parts follow it",
                    "a change of the same size: the offsets of the parts behind it are unknown",
                )
            pieces.append(new)
        return Plan(joined(pieces), sum(piece.size for piece in pieces))

    def reopened(self, source: Source, beside: Beside | None = None) -> Host:
        last = self.stretches[-1]
        grown = [*self.stretches[:-1], Part(last.start, source.size, last.title)]
        return Host(source, [part for part in grown if part.title])

    def covering(self, at: int) -> Stretch:
        row = next(
            row for row, part in enumerate(self.stretches) if part.start <= at < part.end or part is self.stretches[-1]
        )
        return Stretch(at, 0, "content", self.names[row])


def _parts(source: Source, found: list[Part]) -> Iterator[Part]:
    done = 0
    for part in found[:MOST_PARTS]:
        if part.start > done:
            yield Part(done, part.start, "")
        yield part
        done = part.end
    if done < source.size:
        yield Part(done, source.size, "")


def _name(part: Part) -> bytes:
    return f"{'archive' if part.title else 'other'}-{part.start:08x}.bin".encode()
