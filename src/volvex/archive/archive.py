"""An archive: its layout, its directory, and the content of its entries."""

from __future__ import annotations

import functools
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from volvex.archive import filetypes
from volvex.archive.names import clean, shown
from volvex.codec import COMPRESS, SEAL, Cipher, Compression, Seal, Sum
from volvex.errors import ContentError, FormatError, RefusedError
from volvex.layout import Layout, Library
from volvex.layout.columns import Array
from volvex.layout.entries import Entries
from volvex.layout.model import Field
from volvex.layout.naming import endings_of
from volvex.layout.opening import read
from volvex.layout.reading import BlockRead, Reading
from volvex.layout.verifying import seal_text, stored_seal
from volvex.layout.wrapping import KeyFacts, ciphers_of, deciphered, made_codec
from volvex.source import FileSource, Source

WHOLE = 1 << 26  # content up to this size is decoded in one piece
UNNAMED = "unnamed"  # the folder of entries that have only a key
IN_MEMORY = 1 << 30  # content above this size is never held in memory


@dataclass(frozen=True)
class Entry:
    """One entry, for whoever asks for it. Sizes and places in bytes."""

    archive: Archive
    row: int
    name: str
    start: int
    stored: int
    size: int
    codec: str


@dataclass(frozen=True)
class _Sealed:
    """A seal of each entry: its field, what it covers, how it is computed, and all its values."""

    block: BlockRead
    field: Field
    part: str
    seal: Seal
    column: Array


class Archive:
    """A file that holds files. Safe to read from several threads."""

    def __init__(self, reading: Reading) -> None:
        assert reading.entries is not None
        self.reading = reading
        self.source: Source = reading.source
        self.layout: Layout = reading.original
        self.entries: Entries = reading.entries
        self.kin: dict[tuple[str, str], int] = {}  # (folder, ending) -> the entry that a new one there is most like
        self._wraps = self.reading.layout.content.wraps
        self._plain = {wrap: made_codec(wrap) for wrap in self._wraps if not wrap.derived}
        self._padded = any(("tail", "zeros") in wrap.given for wrap in self._wraps)
        self._seals = [
            _Sealed(block, field, meaning.part, SEAL.get(meaning.algorithm), block.numbers(field.name))
            for block, field, meaning in reading.content_seals()
        ]

    def __len__(self) -> int:
        return len(self.entries)

    def __enter__(self) -> Archive:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of the file."""
        self.reading.close()

    @functools.cached_property
    def names(self) -> list[str]:
        """The entries' paths: forward slashes, otherwise as the archive says. Not safe to print: see `shown`.

        An entry that has only a key is called by that, and by what its content is: `unnamed/3f9c22d01b7e4a55.png`.
        """
        names = self.entries.names.all()
        if self.entries.nameless:
            return [self._stand_in(row, name) for row, name in enumerate(names)]
        if "\\" in "".join(names):
            names = [clean(name) for name in names]
        for row in self.folders:
            names[row] = names[row].rstrip("/") + "/"
        return names

    def _stand_in(self, row: int, key: str) -> str:
        """The name of an entry that has none."""
        if row in self.folders:
            return f"{UNNAMED}/{key}/"
        told = (
            self._endings[row]
            if self._endings is not None
            else filetypes.ending_by_content(self.beginning(row, filetypes.HEAD))
        )
        return f"{UNNAMED}/{key}.{told}" if told else f"{UNNAMED}/{key}"

    @functools.cached_property
    def _endings(self) -> list[str] | None:
        return endings_of(self.reading)

    @functools.cached_property
    def folders(self) -> frozenset[int]:
        """The entries that are folders: they have no content."""
        told = self.entries.folders
        return frozenset(np.flatnonzero(told).tolist()) if told is not None else frozenset()

    @functools.cached_property
    def backslashed(self) -> bool:
        """Whether the archive's own names have backslashes between their folders."""
        whole = b"\0".join(self.entries.names.raws())
        return b"\\" in whole and b"/" not in whole

    @functools.cached_property
    def rows(self) -> dict[str, int]:
        """Path -> entry; the first of several with one name."""
        return {name: row for row, name in reversed(list(enumerate(self.names)))}

    def codec(self, row: int) -> str:
        """The name of an entry's codec; `?` when the layout does not know its number."""
        index = int(self.entries.codec[row])
        return self.entries.codecs[index] if index >= 0 else "?"

    @property
    def codec_labels(self) -> list[str]:
        """The codecs in few words: without their parameters, behind the ciphers around them."""
        ciphers = [wrap.name for wrap in self._wraps]
        bare = [name.partition("(")[0] for name in self.entries.codecs]
        return [", ".join([*ciphers, *([name] if name != "none" or not ciphers else [])]) for name in bare]

    def entry(self, row: int) -> Entry:
        """One entry."""
        of = self.entries
        return Entry(
            self, row, self.names[row], int(of.start[row]), int(of.stored[row]), int(of.size[row]), self.codec(row)
        )

    # content

    def content(self, row: int) -> bytes:
        """An entry's content, its seals verified; FormatError when it is damaged."""
        stored, size = int(self.entries.stored[row]), int(self.entries.size[row])
        if max(stored, size) > IN_MEMORY:
            raise RefusedError(
                f"{self.label(row)} has {size:,} bytes, too many to hold in memory", "`unpack`, which needs none"
            )
        if max(stored, size) > WHOLE and not self._padded:
            return b"".join(self.chunks(row))
        data = self.stored_source.read(int(self.entries.start[row]), stored) if stored else b""
        self._verify(row, "stored content", data)
        try:
            if self._wraps:
                data = b"".join(deciphered([data], self._ciphers(row)))
            content = self._decoded(row, data, size)
        except ContentError as error:
            raise self._damaged(row, error) from error
        self._verify(row, "content", content)
        return content

    def _decoded(self, row: int, data: bytes, size: int) -> bytes:
        if not data and not size:  # many formats store nothing for an empty file, whatever its codec
            return b""
        if not self._padded:
            return self._compression(row).decode(data, size)
        content = self._compression(row).decode_start(data, size)  # behind it there may be a cipher's padding
        if len(content) != size:
            raise ContentError(f"{len(content)}, not the {size} bytes that the size says")
        return content

    def chunks(self, row: int) -> Iterator[bytes]:
        """An entry's content in pieces, whatever its size; its seals are verified by the end."""
        start, stored, size = (int(of[row]) for of in (self.entries.start, self.entries.stored, self.entries.size))
        if max(stored, size) <= WHOLE or (self._padded and max(stored, size) <= IN_MEMORY):
            yield self.content(row)
            return
        before, after = self._sums("stored content"), self._sums("content")
        chunks = self._fed(before, self.stored_source.chunks(start, stored))
        try:
            if self._wraps:
                chunks = deciphered(chunks, self._ciphers(row))
            for chunk in self._compression(row).decode_stream(chunks, size):
                _feed(after, chunk)
                yield chunk
        except ContentError as error:
            raise self._damaged(row, error) from error
        for sealed, total in (*before, *after):
            self._compare(row, sealed, total.value())

    @property
    def stored_source(self) -> Source:
        """Where the entries' stored bytes lie: in the file, or in a part of it."""
        return self.reading.content_source

    def _ciphers(self, row: int) -> list[Cipher]:
        """The ciphers of an entry's content; their keys may come from what is known of it."""
        of = self.entries
        facts = KeyFacts(of.names.raw(row), int(of.start[row]), int(of.size[row]), int(of.stored[row]))
        return ciphers_of(self._wraps, facts, self._plain)

    def _sums(self, part: str) -> list[tuple[_Sealed, Sum]]:
        return [(sealed, sealed.seal.new()) for sealed in self._seals if sealed.part == part]

    def _fed(self, sums: list[tuple[_Sealed, Sum]], chunks: Iterator[bytes]) -> Iterator[bytes]:
        for chunk in chunks:
            _feed(sums, chunk)
            yield chunk

    def beginning(self, row: int, size: int) -> bytes:
        """The first bytes of an entry's content, unverified and cheap; what can be had of them when it is damaged."""
        if self.codec(row) == "?":
            return b""
        start, stored, whole = (int(of[row]) for of in (self.entries.start, self.entries.stored, self.entries.size))
        codec = self._compression(row)
        reach = getattr(codec, "reach", None)  # of a codec that must know the whole size to show a beginning
        wanted = min(WHOLE, reach(whole)) if reach else max(256, 2 * size)
        try:
            data = self.stored_source.read(start, min(stored, wanted)) if stored else b""
            if self._wraps:
                data = b"".join(deciphered([data], self._ciphers(row)))
            if reach:
                return next(codec.decode_stream([data], whole), b"")[:size]
            return codec.decode_start(data, size)
        except (ContentError, FormatError):
            return b""

    def kind(self, row: int) -> str:
        """What an entry's content is, by its beginning."""
        if row in self.folders:
            return "folder"
        if not self.entries.size[row]:
            return "empty"
        return filetypes.kind_by_content(self.beginning(row, filetypes.HEAD)) if self.codec(row) != "?" else "?"

    def _compression(self, row: int) -> Compression:
        name = self.codec(row)
        if name == "?":
            found = self.reading.fact("codec of content")
            assert found is not None
            block, field = found
            number = int(block.numbers(field.name)[row])
            raise FormatError(
                self.source.name, f"{number} is no codec that the layout knows", offset=block.offset(row, field.name),
                field=block.where(row, field.name), hint="another layout, or adding the number to its table",
            )  # fmt: skip
        return COMPRESS.get(name)

    def _damaged(self, row: int, error: ContentError) -> FormatError:
        return FormatError(self.source.name, f"{shown(self.names[row])}: {error.message}", offset=int(self.entries.start[row]),
                           hint="a fresh copy of the file: this entry is damaged")  # fmt: skip

    def _verify(self, row: int, part: str, data: bytes) -> None:
        for sealed in self._seals:
            if sealed.part == part:
                total = sealed.seal.new()
                total.update(data)
                self._compare(row, sealed, total.value())

    def _compare(self, row: int, sealed: _Sealed, value: int) -> None:
        field = sealed.field
        told = stored_seal(field, sealed.column, row)
        if told != value:
            raise FormatError(
                self.source.name, f"{shown(self.names[row])}: its {field.words} is {seal_text(field, value)}, the file says {seal_text(field, told)}",
                offset=sealed.block.offset(row, field.name), field=sealed.block.where(row, field.name),
                hint="a fresh copy of the file: this entry is damaged",
            )  # fmt: skip

    def label(self, row: int) -> str:
        """An entry's whole path, safe to print."""
        return f"{self.source.name}/{shown(self.names[row])}"


def _feed(sums: list[tuple[_Sealed, Sum]], chunk: bytes) -> None:
    for _, total in sums:
        total.update(chunk)


def identity(name: str) -> str:
    """What stays of an entry's name when its content becomes of another kind: without the ending of a stand-in name."""
    return name.partition(".")[0] if name.startswith(f"{UNNAMED}/") else name


def open_archive(path: Path, library: Library, name: str | None = None, layout: Layout | None = None) -> Archive | None:
    """The archive in a file; None when no layout knows it, FormatError when one does but it is damaged.

    `layout` is used without asking the library. `name` is what errors call the file.
    """
    source = FileSource(path, name)
    try:
        chosen = layout or library.match(source)
        if chosen is None:
            source.close()
            return None
        return Archive(read(chosen, source))
    except BaseException:
        source.close()
        raise
