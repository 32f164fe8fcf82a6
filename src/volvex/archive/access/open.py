"""Opening a file as an archive: by a layout whose marks it bears, by the drivers of open formats, by what its bytes
betray.

Recognised by content alone; the file's name says nothing.
"""

from __future__ import annotations

from pathlib import Path

from volvex.archive.access import pieces
from volvex.archive.archive import Archive
from volvex.archive.detect.filetypes import HEAD, kind_by_content
from volvex.archive.layout_archive import LayoutArchive
from volvex.archive.safe_names import quoted
from volvex.errors import FormatError, VolvexError
from volvex.layout import Layout, Library
from volvex.layout.match import head_of
from volvex.layout.read.open import read
from volvex.source import Beside, EndsSource, FileSource, Source

SEARCHED = (
    "binary",
    "exe",
    "elf",
    "text",
)  # kinds of files that are looked through: others are what their first bytes say


def open_archive(
    path: Path,
    library: Library,
    name: str | None = None,
    layout: Layout | None = None,
    sibling: pieces.Sibling | None = None,
) -> Archive | None:
    """The archive in a file; None when nothing knows it, FormatError when something does but it is damaged.

    `layout` is used without asking the library. `name` is what errors call the file. A file that is the first of
    several numbered pieces is opened with the others, where they lie; `sibling` finds those when they do not lie beside
    it.
    """
    source = FileSource(path, name)
    try:
        found = None
        fault: VolvexError | None = None
        try:
            found = open_source(source, library, layout, beside=_opened(sibling or pieces.beside(path)))
        except FormatError as error:
            fault = error
        if found is None:
            found = pieces.open_pieces(path, source, lambda whole: open_source(whole, library, layout, False), sibling)
        if found is None:
            if fault is not None:
                if fault.hint.startswith("a fresh copy"):
                    fault.hint += f"; or `volvex unpack {quoted(source.name)} --salvage` for what is whole"
                raise fault
            source.close()
        return found
    except BaseException:
        source.close()
        raise


def _opened(sibling: pieces.Sibling) -> Beside:
    """Files beside the archive, for content that lies in them."""

    def find(name: str) -> Source | None:
        path = sibling(name)
        return FileSource(path) if path is not None else None

    return find


def open_source(
    source: Source, library: Library, layout: Layout | None = None, sought: bool = True, beside: Beside | None = None
) -> Archive | None:
    """The archive in some bytes; None when nothing knows them.

    `beside` finds files in which content lies that is not in this one. With `sought`, bytes that bear no mark are also
    looked through for an archive within them, or behind a repeating key.
    """
    if layout is None:
        layout = library.tied(source.name)
        if layout is not None and layout.kind != "archive":
            return None
    if layout is not None:
        return LayoutArchive(read(library.prepared(layout, source.name), source, beside), library.names)
    found = by_layout(source, library, beside)
    if found is not None:
        return found
    from volvex.archive.formats import format_of, refuse_damaged  # the drivers are loaded when no layout knows a file

    ends = EndsSource(source)
    known = format_of(ends)
    if known is not None:
        return known.opened(source, library.keys)
    refuse_damaged(ends)
    if not sought or kind_by_content(ends.peek(0, HEAD)) not in SEARCHED:
        return None
    if library.match_data(ends) is not None:
        return None  # a table, texts or a scene
    from volvex.archive.detect import embedded, xor

    return xor.open_betrayed(source, library, open_source) or embedded.open_embedded(source, library, open_source)


def by_layout(source: Source, library: Library, beside: Beside | None = None) -> Archive | None:
    """By the first layout whose marks the file bears and that reads it; FormatError when none of them reads it."""
    fault: FormatError | None = None
    for layout in library.fitting(source, head_of(source)):
        try:
            return LayoutArchive(read(library.prepared(layout, source.name), source, beside), library.names)
        except FormatError as error:
            fault = fault or error
    if fault is not None:
        raise fault
    return None
