"""Archives inside archives: an entry's content as a source, and the archive in it."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.archive.access.open import open_source
from volvex.archive.archive import WHOLE, Archive
from volvex.archive.detect import filetypes
from volvex.errors import FormatError, TooLargeError, VolvexError
from volvex.layout import Library
from volvex.source import BytesSource, LazySource, Source, WindowSource

DEEPEST = 12  # archives within each other
BEGINNING = 1024
SMALL = 1 << 16  # bytes of bare content that are looked at in memory
LARGEST = 1 << 36  # bytes of an entry that are decoded into a temporary file


def entry_source(archive: Archive, row: int, name: str) -> Source:
    """An entry's content: a window on the file when it lies there bare, otherwise decoded when it is first read."""
    size = int(archive.entries.size[row])
    if archive.codec(row) == "none" and not archive.ciphers(row):
        start, stored = archive.place(row)
        if stored == size:
            return WindowSource(archive.stored_source, start, size, name)
    if size > LARGEST:
        raise FormatError(
            name,
            f"{size:,} bytes within an archive are too many to look into",
            hint="`unpack`, then looking at what comes out",
        )

    def content() -> Iterator[bytes]:
        yield from archive.chunks(row)

    return LazySource(name, size, content, archive.beginning(row, BEGINNING))


def content_source(archive: Archive, row: int, name: str) -> Source:
    """An entry's content, its checksums verified: in memory, or when it is large in a temporary file."""
    size = int(archive.entries.size[row])
    if size <= WHOLE:
        return BytesSource(archive.content(row), name)
    if size > LARGEST:
        raise TooLargeError(f"{name}: {size:,} bytes", "`volvex unpack`")
    return LazySource(name, size, lambda: archive.chunks(row))


def open_entry(archive: Archive, row: int, library: Library, name: str, asked: bool = True) -> Archive | None:
    """The archive that an entry holds; None when it holds none.

    Unless it was `asked` for by its path, an entry is only opened when its first bytes are those of an archive, or it
    lies bare in the file: then looking costs next to nothing.
    """
    if row in archive.folders or not archive.entries.size[row] or archive.refusal(row):
        return None
    if not asked and library.tied(name) is None:
        head = archive.beginning(row, BEGINNING)
        if not filetypes.may_contain_files(filetypes.kind_by_content(head[: filetypes.HEAD])):
            return None
        bare = archive.codec(row) == "none" and not archive.ciphers(row)
        if not bare and not _promises(head, library):
            return None
        if bare and int(archive.entries.size[row]) <= SMALL and not _opens(archive, row, library, name):
            return None
    source = entry_source(archive, row, name)
    found = open_source(source, library, sought=asked)
    if found is None:
        source.close()
    return found


def _opens(archive: Archive, row: int, library: Library, name: str) -> bool:
    """Whether small bare content is an archive, found out in memory: of most entries in an archive of many it is
    not."""
    start, stored = archive.place(row)
    try:
        found = open_source(BytesSource(archive.stored_source.read(start, stored), name), library, sought=False)
    except VolvexError:
        return True  # damaged, or locked: to be told in the usual way
    return found is not None


def _promises(head: bytes, library: Library) -> bool:
    """Whether some archive begins with such bytes."""
    for layout in library.remembered():
        if layout.kind == "archive" and any(
            head[one.at.offset :].startswith(one.values)
            for one in layout.known
            if not one.at.from_end and not one.at.mark
        ):
            return True
    from volvex.archive.formats import format_of, may_begin

    return may_begin(head) or format_of(BytesSource(head, "the beginning")) is not None
