"""Damaged archives as far as they can be read: what is whole comes out, the rest is named with the reason.

In this order: by the layout whose signature the file bears, entries that lie behind its end being refused; a ZIP
archive without its directory by the headers in front of its entries; a TAR archive up to where it is damaged; of
anything else the open files and compressed streams inside, named by their offsets.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from pathlib import Path

import numpy as np

from volvex.archive.archive import Archive
from volvex.archive.detect import filetypes
from volvex.archive.detect.carve import Find, finds
from volvex.archive.formats import _zip_local, tar
from volvex.archive.formats._base import OpenFormatArchive, entries_of
from volvex.archive.formats.zip import Zip
from volvex.archive.layout_archive import LayoutArchive
from volvex.codec import COMPRESS
from volvex.errors import ContentError, FormatError, RefusedError, VolvexError
from volvex.layout import Library
from volvex.layout.inspect.stretch import Stretch
from volvex.layout.match import fits
from volvex.layout.read.open import read
from volvex.layout.write.plan import Edit, NewContent, Plan
from volvex.source import Beside, FileSource, Source, Spool


def open_salvaged(path: Path, library: Library, name: str) -> Archive:
    """What is left of an archive; FormatError when nothing in it can be recovered. It can be read, and not be
    written."""
    source = FileSource(path, name)
    try:
        for way in (_by_layout, _as_zip, _as_tar, _carved):
            found = way(source, library)
            if found is not None and len(found):
                return found
        raise FormatError(name, "nothing in it can be recovered", hint="a fresh copy of the file")
    except BaseException:
        source.close()
        raise


def _by_layout(source: Source, library: Library) -> Archive | None:
    tied = library.tied(source.name)
    for layout in [tied] if tied is not None else library.layouts():
        if layout.kind == "archive" and (layout is tied or fits(layout, source)):
            try:
                return LayoutArchive(read(library.prepared(layout, source.name), source, lenient=True), library.names)
            except VolvexError:
                continue
    return None


def _as_zip(source: Source, library: Library) -> Archive | None:
    found = _zip_local.scanned(source)
    return None if found is None else Zip(source, library.keys, *found)


def _as_tar(source: Source, library: Library) -> Archive | None:
    codec = None if tar.is_header(source.peek(0, tar.BLOCK)) else tar.compression_of(source)
    if codec is None:
        return tar.Tar(source, lenient=True) if tar.is_header(source.peek(0, tar.BLOCK)) else None
    return tar.Tar(_Decoded(source, codec), lenient=True)


class _Decoded(Source):
    """What comes out of a compressed file before its damage, in a temporary file."""

    def __init__(self, source: Source, codec: str) -> None:
        self._file, self._spool = source, Spool()
        self.name = source.name
        self._spool.append(self._before_damage(source, codec))
        self.size = self._spool.size

    @staticmethod
    def _before_damage(source: Source, codec: str) -> Iterator[bytes]:
        try:
            yield from COMPRESS.get(codec).decode_stream(source.chunks(0, source.size), 1 << 62)
        except ContentError:
            return

    def _read(self, offset: int, size: int) -> bytes:
        return self._spool.read(offset, size)

    def close(self) -> None:
        self._spool.close()
        self._file.close()


def _carved(source: Source, library: Library) -> Archive | None:
    return Carved(source, [find for find in finds(source) if find.size is not None])


class Carved(OpenFormatArchive):
    """The open files and compressed streams that lie in some bytes, named by their offsets."""

    title = "what lies in it"

    def __init__(self, source: Source, found: list[Find]) -> None:
        super().__init__()
        self.source = source
        streams = [find.holds is not None for find in found]
        names = [self._named(find, stream) for find, stream in zip(found, streams, strict=True)]
        held = [find.holds if find.holds is not None else find.size or 0 for find in found]
        self.entries = entries_of(names, [find.offset for find in found], [find.size or 0 for find in found], held)
        codecs = ["none", *sorted({find.kind for find in found if find.holds is not None})]
        self.entries.codecs[:] = codecs
        self.entries.codec[:] = [
            codecs.index(find.kind) if stream else 0 for find, stream in zip(found, streams, strict=True)
        ]

    def _named(self, find: Find, stream: bool) -> bytes:
        text = find.kind
        if stream:
            size = min(find.holds or 0, filetypes.HEAD)
            start = self.source.read(find.offset, min(find.size or 0, 1 << 12))
            text = filetypes.extension_by_content(COMPRESS.get(find.kind).decode_start(start, size)) or "bin"
        return f"{find.offset:08x}.{text}".encode()

    def covering(self, at: int) -> Stretch:
        row = int(np.searchsorted(self.entries.start, at, "right")) - 1
        return Stretch(at, 0, "content", self.names[max(0, row)])

    def encode(self, spool: Spool, chunks: Iterable[bytes], like: int) -> NewContent:
        raise self._unwritable()

    def plan(self, edit: Edit, each: bool = False, folder: Path | None = None, pinned: bool = False) -> Plan:
        raise self._unwritable()

    def reopened(self, source: Source, beside: Beside | None = None) -> Archive:
        raise self._unwritable()

    def _unwritable(self) -> RefusedError:
        return RefusedError(
            f"{self.source.name} is of an unknown format, so nothing can be written into it", "a layout for it"
        )
