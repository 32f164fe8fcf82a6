"""Archives inside archives: an entry's content as a source, and the archive in it."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.archive import filetypes
from volvex.archive.archive import Archive
from volvex.archive.opening import open_source
from volvex.errors import FormatError
from volvex.layout import Library
from volvex.source import LaterSource, Source, WindowSource

DEEPEST = 12  # archives within each other
BEGINNING = 1024
LARGEST = 1 << 36  # bytes of an entry that are decoded into a temporary file
_NO_ARCHIVES = frozenset((*filetypes.TEXT, "empty", "folder", "png", "jpeg", "gif", "dds", "webp", "wav", "ogg", "flac", "mp3", "ttf", "otf",
                          "pdf", "sqlite"))  # fmt: skip


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

    return LaterSource(name, size, content, archive.beginning(row, BEGINNING))


def open_entry(archive: Archive, row: int, library: Library, name: str, asked: bool = True) -> Archive | None:
    """The archive that an entry holds; None when it holds none.

    Unless it was `asked` for by its path, an entry is only opened when its first bytes are those of an archive, or it
    lies bare in the file: then looking costs next to nothing.
    """
    if row in archive.folders or not archive.entries.size[row] or archive.refusal(row):
        return None
    if not asked:
        head = archive.beginning(row, BEGINNING)
        if filetypes.kind_by_content(head[: filetypes.HEAD]) in _NO_ARCHIVES:
            return None
        if not _promises(head, library) and (archive.codec(row) != "none" or archive.ciphers(row)):
            return None
    source = entry_source(archive, row, name)
    found = open_source(source, library, sought=asked)
    if found is None:
        source.close()
    return found


def _promises(head: bytes, library: Library) -> bool:
    """Whether some archive begins with such bytes."""
    for layout in library.layouts():
        if any(
            head[one.at.offset :].startswith(one.value)
            for one in layout.known
            if not one.at.from_end and not one.at.mark
        ):
            return True
    from volvex.archive.formats import format_of
    from volvex.source import BytesSource

    return head.startswith(b"PK") or format_of(BytesSource(head, "the beginning")) is not None
