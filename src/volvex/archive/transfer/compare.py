"""What differs between two archives, entry by entry; stored bytes are compared first, and content only where those
differ."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from volvex.archive.access.nested import open_entry
from volvex.archive.access.open import open_archive
from volvex.archive.access.paths import HIDDEN
from volvex.archive.archive import Archive
from volvex.archive.safe_names import Refusal
from volvex.errors import LockedError, VolvexError
from volvex.layout import Library
from volvex.source import FileSource, Source

STEP = 1 << 22  # bytes of either side that are compared at once
DEEPEST = 8


@dataclass(frozen=True)
class Content:
    """The content of one side, in pieces when it is asked for."""

    size: int
    chunks: Callable[[], Iterator[bytes]]

    def bytes(self) -> bytes:
        """All of it."""
        return b"".join(self.chunks())


@dataclass(frozen=True)
class Difference:
    """A path whose content differs; None for a side that does not have it."""

    path: str
    old: Content | None
    new: Content | None


def compare_archives(path: str, old: Archive, new: Archive, library: Library, depth: int = 0) -> Iterator[Difference]:
    """What differs, in the order of the paths on disk below `path`; archives within them are entered."""
    there = {address: row for row, address in enumerate(new.addresses)}
    places, found = old.disk_names, list[Difference]()
    for row, address in enumerate(old.addresses):
        other, place = there.pop(address, None), places[row]
        if row in old.folders or isinstance(place, Refusal):
            continue
        name = f"{path}/{place}"
        if other is None:
            found.append(Difference(name, content_of(old, row), None))
        elif not _same_stored(old, row, new, other):
            found += _of_entries(name, old, row, new, other, library, depth)
    for row in there.values():
        place = new.disk_names[row]
        if row not in new.folders and not isinstance(place, Refusal):
            found.append(Difference(f"{path}/{place}", None, content_of(new, row)))
    yield from sorted(found, key=lambda one: one.path)


def content_of(archive: Archive, row: int) -> Content:
    """The content of an entry."""
    return Content(int(archive.entries.size[row]), lambda: archive.chunks(row))


def _of_entries(
    name: str, old: Archive, row: int, new: Archive, other: int, library: Library, depth: int
) -> list[Difference]:
    """What differs in one entry: in an archive within the archive, or in its content."""
    if depth < DEEPEST:
        with library.keys.quiet():
            inner = _opened(old, row, library, name), _opened(new, other, library, name)
        if inner[0] is not None and inner[1] is not None:
            with inner[0], inner[1]:
                # the content is needed while these are open, and not much of it differs
                return [
                    _held(difference) for difference in compare_archives(name, inner[0], inner[1], library, depth + 1)
                ]
    content, two = content_of(old, row), content_of(new, other)
    try:
        same = content.size == two.size and same_chunks(content.chunks(), two.chunks())
    except LockedError:  # nobody here can say what it is
        same = False
    return [] if same else [Difference(name, content, two)]


def _opened(archive: Archive, row: int, library: Library, name: str) -> Archive | None:
    try:
        return open_entry(archive, row, library, name, asked=False)
    except VolvexError:
        return None


def _held(difference: Difference) -> Difference:
    def hold(content: Content | None) -> Content | None:
        if content is None:
            return None
        data = content.bytes()
        return Content(len(data), lambda: iter([data]))

    return Difference(difference.path, hold(difference.old), hold(difference.new))


def _same_stored(old: Archive, row: int, new: Archive, other: int) -> bool:
    """Whether the stored bytes are the same and mean the same: with the same codec, and with a cipher at the same
    offset, from which its key may come."""
    if int(old.entries.size[row]) != int(new.entries.size[other]) or old.codec(row) != new.codec(other):
        return False
    (start, size), (at, length) = old.place(row), new.place(other)
    if size != length or (start != at and _is_encrypted(old, row)):
        return False
    return same_spans(old.stored_source, start, new.stored_source, at, size)


def _is_encrypted(archive: Archive, row: int) -> bool:
    try:
        return bool(archive.ciphers(row))
    except LockedError:
        return True


def same_spans(source: Source, start: int, other: Source, at: int, size: int) -> bool:
    """Whether two stretches are the same bytes."""
    for done in range(0, size, STEP):
        step = min(STEP, size - done)
        if source.read(start + done, step) != other.read(at + done, step):
            return False
    return True


def same_chunks(chunks: Iterator[bytes], other: Iterator[bytes]) -> bool:
    """Whether two contents in pieces are the same."""
    left = right = b""
    while True:
        if not left:
            left = next(chunks, b"")
        if not right:
            right = next(other, b"")
        if not left or not right:
            return not left and not right
        size = min(len(left), len(right))
        if left[:size] != right[:size]:
            return False
        left, right = left[size:], right[size:]


def compare_files(path: str, old: Path | None, new: Path | None, library: Library) -> Iterator[Difference]:
    """What differs between two files, which are called `path`: entry by entry where both are archives."""
    if old is None or new is None:
        yield Difference(path, _of_file(old), _of_file(new))
        return
    archives = []
    with contextlib.ExitStack() as stack:
        for file in (old, new):
            with contextlib.suppress(VolvexError), library.keys.quiet():  # locked or damaged: compared byte by byte
                found = open_archive(file, library, path)
                if found is not None:
                    archives.append(stack.enter_context(found))
        if len(archives) == 2 and archives[0].title == archives[1].title:
            yield from compare_archives(path, archives[0], archives[1], library)
            return
    content, two = _of_file(old), _of_file(new)
    assert content is not None and two is not None
    if content.size != two.size or not same_chunks(content.chunks(), two.chunks()):
        yield Difference(path, content, two)


def _of_file(file: Path | None) -> Content | None:
    if file is None:
        return None

    def chunks() -> Iterator[bytes]:
        with FileSource(file) as source:
            yield from source.chunks(0, source.size, STEP)

    return Content(file.stat().st_size, chunks)


def compare_folders(old: Path, new: Path, library: Library) -> Iterator[Difference]:
    """What differs between the files of two folders; a file that is one of an archive's volumes is looked at with the
    archive."""
    names = [set(_names(folder)) for folder in (old, new)]
    beside: set[str] = set()
    for name in sorted(names[0] | names[1]):
        if name in beside:
            continue
        pair = [folder / name if name in those else None for folder, those in zip((old, new), names, strict=True)]
        if pair[0] is not None and pair[1] is not None:
            beside |= _volumes(pair[0], name, library)
        yield from compare_files(name, pair[0], pair[1], library)


def _volumes(file: Path, name: str, library: Library) -> set[str]:
    """The other files in which parts of an archive lie."""
    folder, slash, _ = name.rpartition("/")
    try:
        archive = open_archive(file, library, name)
    except VolvexError:
        return set()
    if archive is None:
        return set()
    with archive:
        return {f"{folder}{slash}{other}" for other in archive.kept_beside}


def _names(folder: Path) -> Iterator[str]:
    for here, folders, files in os.walk(folder):
        folders[:] = sorted(name for name in folders if name != HIDDEN)
        base = Path(here).relative_to(folder)
        yield from ((base / name).as_posix() for name in files if not (Path(here) / name).is_symlink())
