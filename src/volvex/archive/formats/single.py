"""Files that hold one compressed file: a folder of one.

Its name is the one that a gzip file tells, or the file's own without its last ending.
"""

from __future__ import annotations

import functools
import re
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from volvex.archive.detect.filetypes import HEAD, extension_by_content
from volvex.archive.detect.types import all_types
from volvex.archive.envelope import members
from volvex.archive.formats._base import OpenFormatArchive, content_piece, encoded, entries_of
from volvex.codec import COMPRESS
from volvex.errors import ContentError, FormatError, RefusedError
from volvex.layout.inspect.stretch import Stretch
from volvex.layout.keyring import KeyRing
from volvex.layout.write.plan import Edit, NewContent, Piece, Plan
from volvex.source import Beside, Source, Spool

if TYPE_CHECKING:
    from volvex.layout.inspect.proof import Proof

TITLE = "one compressed file"
PRIORITY = 40
WHY = "a stream that decodes"
FOUND = 1 << 16  # stored bytes from which a beginning is decoded
NAMED, EXTRA = 8, 4  # flags of a gzip head


def knows(source: Source) -> bool:
    """A mark behind which a sound stream begins; for zlib, whose mark is two bytes, a whole sound stream as far as it
    is looked at."""
    return codec_of(source) is not None


@functools.cache
def _signatures() -> tuple[tuple[bytes, str], ...]:
    """Signatures of compressed streams, with their codecs."""
    return tuple(
        (mark, kind.codec)
        for kind in all_types()
        if kind.codec
        for mark in (*(mark for mark, _ in kind.signatures), *kind.weak)
    )


@functools.cache
def _endings() -> frozenset[str]:
    return frozenset(extension for kind in all_types() for extension in kind.extensions)


def codec_of(source: Source) -> str | None:
    """The codec of a compressed file; None when it is none."""
    head = source.peek(0, 8)
    codec = next((name for mark, name in _signatures() if head.startswith(mark)), None)
    if codec is None or len(head) < 8:
        return None
    head = source.peek(0, FOUND)
    try:
        begins = COMPRESS.get(codec).decode_start(head, 1 << 12)
    except ContentError:
        return None
    return codec if begins or source.size < 64 else None


def opened(source: Source, keys: KeyRing) -> Single:
    codec = codec_of(source)
    assert codec is not None
    return Single(source, codec)


class Single(OpenFormatArchive):
    """A folder of one. What it holds is decoded once, when somebody asks for it or for its size."""

    def __init__(self, source: Source, codec: str) -> None:
        super().__init__()
        self.source, self._codec = source, codec
        self.title = f"one file, {codec}"
        size = self._told_size()
        self._inner: Spool | None = None
        if size is None:
            size = self._opened_up().size
        self.entries = entries_of([self._name()], [0], [source.size], [size], codec)

    def close(self) -> None:
        if self._inner is not None:
            self._inner.close()
        super().close()

    def _told_size(self) -> int | None:
        """The size that the file tells, where one can rely on it; None when all must be decoded to know it."""
        if self._codec != "zstd":
            return None
        import zstandard

        try:
            number = zstandard.frame_content_size(self.source.peek(0, 32))
            frame = zstandard.get_frame_parameters(self.source.peek(0, 32))
        except zstandard.ZstdError:
            return None
        return number if number > 0 and frame.has_checksum and number > self.source.size else None

    def _opened_up(self) -> Spool:
        if self._inner is None:
            spool = Spool()
            try:
                spool.append(members(self.source, self._codec))
            except BaseException:
                spool.close()
                raise
            self._inner = spool
        return self._inner

    def _name(self) -> bytes:
        data = self._gzip_name()
        if data:
            return data
        own = self.source.name.rpartition("/")[2]
        stem, dot, extension = own.rpartition(".")
        if dot and extension.lower() in _endings():
            return stem.encode("utf-8", "surrogateescape") or b"content"
        if dot and extension.lower() in ("tgz", "svgz"):
            return f"{stem}.{extension[:-2]}{extension[-1] if extension == 'svgz' else ''}".encode()
        found = extension_by_content(self.beginning_of_content(HEAD))
        return f"{stem or own}.{found}".rstrip(".").encode("utf-8", "surrogateescape")

    def _gzip_name(self) -> bytes:
        head = self.source.peek(0, 1024)
        if self._codec != "gzip" or not head[3] & NAMED or head[3] & EXTRA:
            return b""
        name = head[10:].split(b"\0", 1)[0]
        return re.sub(rb"[\x00-\x1f]|.*[/\\]", b"", name)

    def beginning_of_content(self, size: int) -> bytes:
        try:
            return COMPRESS.get(self._codec).decode_start(self.source.peek(0, FOUND), size)
        except ContentError:
            return b""

    def beginning(self, row: int, size: int) -> bytes:
        return self.beginning_of_content(size)

    def content(self, row: int) -> bytes:
        size = int(self.entries.size[row])
        if size > 1 << 30:
            raise RefusedError(
                f"{self.label(row)} has {size:,} bytes, too many to hold in memory", "`unpack`, which needs none"
            )
        return b"".join(self.chunks(row))

    def chunks(self, row: int) -> Iterator[bytes]:
        inner, number = self._opened_up(), int(self.entries.size[row])
        if inner.size != number:
            raise FormatError(self.source.name, f"it holds {inner.size} bytes, its header gives {number}", offset=0)
        yield from inner.chunks(0, inner.size)

    def encode(self, spool: Spool, chunks: Iterable[bytes], like: int) -> NewContent:
        return encoded(spool, chunks, self._codec)

    def plan(self, edit: Edit, each: bool = False, folder: Path | None = None, pinned: bool = False) -> Plan:
        if edit.added or edit.removed:
            raise RefusedError(
                f"{self.source.name} holds one compressed file, no more and no less", "changing that one"
            )
        if not edit.replaced:
            return Plan([Piece(source=self.source, offset=0, size=self.source.size)], self.source.size)
        piece = content_piece(edit.replaced[0])
        return Plan([piece], piece.size)

    def reopened(self, source: Source, beside: Beside | None = None) -> Single:
        source.name = self.source.name
        return Single(source, self._codec)

    def prove(self, on_progress=lambda size: None) -> Proof:  # type: ignore[no-untyped-def]
        self._opened_up()
        from volvex.layout.inspect.proof import compared  # not needed for looking

        return compared(self.plan(Edit()), self.source, self.covering, on_progress)

    def covering(self, at: int) -> Stretch:
        return Stretch(at, 0, "content", "the compressed stream")

    def fresh_name(self, like: int) -> bytes:
        raise RefusedError(f"{self.source.name} holds one compressed file, no more and no less")
