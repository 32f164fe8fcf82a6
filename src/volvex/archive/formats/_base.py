"""What the drivers share: entries as columns, a CRC or another sum as a check, new content encoded, and the proof."""

from __future__ import annotations

import zlib
from abc import abstractmethod
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING

import numpy as np

from volvex.archive.archive import Archive
from volvex.archive.safe_names import shown
from volvex.codec import COMPRESS
from volvex.errors import FormatError
from volvex.layout.columns import Array, Texts
from volvex.layout.entries import Entries
from volvex.layout.inspect.stretch import Stretch
from volvex.layout.write.plan import BLANK, Edit, NewContent, Piece
from volvex.source import Source, Spool

if TYPE_CHECKING:
    from volvex.layout.inspect.proof import Proof

CRC = ("crc32", "content")  # under which new content tells its sum


class CrcCheck:
    """The CRC-32 of an entry's content."""

    stored = False

    def __init__(self, archive: Archive, row: int, number: int) -> None:
        self._archive, self._row, self._told, self._total = archive, row, number, 0

    def update(self, data: bytes) -> None:
        self._total = zlib.crc32(data, self._total)

    def finish(self) -> None:
        if self._total != self._told:
            archive, row = self._archive, self._row
            raise FormatError(
                archive.source.name,
                f"{shown(archive.names[row])}: its crc32 is {self._total:#010x}, the file stores {self._told:#010x}",
                offset=int(archive.entries.start[row]),
                hint="a fresh copy of the file: this entry is damaged",
            )


class OpenFormatArchive(Archive):
    """An archive of an open format."""

    blank_codec = "none"  # of an entry that is like no other

    def encode(self, spool: Spool, chunks: Iterable[bytes], like: int) -> NewContent:
        if like == BLANK:
            return encoded(spool, chunks, self.blank_codec)
        return encoded(spool, chunks, self.codec(like) if self.codec(like) != "?" else "none")

    def prove(self, on_progress: Callable[[int], None] = lambda size: None) -> Proof:
        from volvex.layout.inspect.proof import compared  # not needed for looking

        return compared(self.plan(Edit(), each=True), self.source, self.covering, on_progress)

    @abstractmethod
    def covering(self, at: int) -> Stretch:
        """What covers a byte of the file."""

    def fresh_name(self, like: int) -> bytes:
        name = self.entries.names.raw(like).rstrip(b"/")
        folder, slash, last = name.rpartition(b"/")
        taken, number = set(self.entries.names.raws()), 1
        while (made := folder + slash + b"new%d-" % number + last) in taken:
            number += 1
        return made


def encoded(spool: Spool, chunks: Iterable[bytes], codec: str) -> NewContent:
    """New content in a spool, with its CRC."""
    size = total = 0

    def counted() -> Iterator[bytes]:
        nonlocal size, total
        for chunk in chunks:
            size, total = size + len(chunk), zlib.crc32(chunk, total)
            yield chunk

    offset, length = spool.append(COMPRESS.get(codec).encode_stream(counted()))
    return NewContent(spool, offset, length, size, codec, {CRC: total})


def folders_of(names: Texts) -> Array | None:
    """Which names end in a slash."""
    found = np.array([raw.endswith((b"/", b"\\")) for raw in names.raws()], bool)
    return found if found.any() else None


def entries_of(
    names: Sequence[bytes], start: Sequence[int], stored: Sequence[int], size: Sequence[int], codec: str = "none"
) -> Entries:
    """Entries that all have one codec, from plain lists."""
    texts = Texts.of(list(names), "utf-8")
    begins, held, sizes = (np.array(list(values), np.int64) for values in (start, stored, size))
    return Entries(texts, begins, held, sizes, np.zeros(len(texts), np.int64), [codec], folders=folders_of(texts))


def span(source: Source, start: int, end: int) -> Piece:
    """Bytes of a source as they are."""
    return Piece(source=source, offset=start, size=end - start)


def content_piece(content: NewContent) -> Piece:
    """New content as it lies in its spool."""
    return Piece(source=content.source, offset=content.offset, size=content.stored)


def joined(pieces: Iterable[Piece]) -> list[Piece]:
    """Pieces without empty ones, those that follow each other in a source as one."""
    out: list[Piece] = []
    for piece in pieces:
        last = out[-1] if out else None
        if not piece.size:
            continue
        if (
            last is not None
            and last.source is not None
            and last.source is piece.source
            and last.offset + last.size == piece.offset
        ):
            out[-1] = Piece(source=last.source, offset=last.offset, size=last.size + piece.size)
        else:
            out.append(piece)
    return out
