"""What every archive is, whatever its format: a directory held as columns, and content that is decoded when asked for.

A format says where an entry's stored bytes lie and through what they go (`place`, `ciphers`, `compression`, `checks`);
reading them, in one piece or in many, is the same for all. Two families: `layout_archive`, read by a layout, and the
drivers in `formats`, for open formats that no layout can carry.

Everywhere: `row` is the number of an entry in the directory, from 0; sizes and offsets are in bytes; `name` is an
entry's own path (`names`), `path` one that variants share. Damage is a FormatError, a missing key a LockedError, what
cannot be written a RefusedError. Nothing is written here.
"""

from __future__ import annotations

import functools
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Protocol, Self

import numpy as np

from volvex.archive.access.numbered import is_numbered, numbered
from volvex.archive.detect import filetypes
from volvex.archive.plain_names import are_plain
from volvex.archive.safe_names import Refusal, clean, disk_names, distinct_paths, shown
from volvex.archive.variation import varied
from volvex.codec import COMPRESS, Cipher, Compression
from volvex.errors import ContentError, FormatError, LockedError, RefusedError
from volvex.layout.columns import Array, Texts
from volvex.layout.entries import Entries
from volvex.layout.name_hash import UNNAMED
from volvex.layout.read.names import marked
from volvex.layout.transforms import decrypted
from volvex.layout.write.plan import Edit, NewContent, Plan
from volvex.source import Beside, Source, Spool

if TYPE_CHECKING:
    from volvex.archive.access.numbered import Cut
    from volvex.archive.envelope import Envelope
    from volvex.layout.inspect.proof import Proof

WHOLE = 1 << 26  # content up to this size is decoded in one piece
IN_MEMORY = 1 << 30  # content above this size is never held in memory

Address = tuple[str, int]  # a name (see `identity`), and which of the entries with that name, from 0


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


class Check(Protocol):
    """A checksum of one entry that is verified while its content is read."""

    stored: bool  # over the stored bytes; over the content otherwise

    def update(self, data: bytes) -> None: ...

    def finish(self) -> None:
        """FormatError when the bytes are not what the archive says."""
        ...


class Archive(ABC):
    """A file that holds files. Safe to read from several threads."""

    title: str  # the format, as users know it
    source: Source
    entries: Entries
    takes_blank = False  # whether a new entry may be like none
    takes_order = False  # whether it can be chosen behind which other a new entry stands
    padded = False  # behind content there may be a cipher's padding
    envelope: Envelope | None = None  # what lies around all of it
    cut: Cut | None = None  # how it is cut into pieces
    parts: Sequence[Source] = ()  # and those

    def __init__(self) -> None:
        # (folder, ending) -> the entry that a new one there is most like
        self.template_row: dict[tuple[str, str], int] = {}

    def __len__(self) -> int:
        return len(self.entries)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of the file."""
        self.source.close()

    # what a format says

    @property
    def stored_source(self) -> Source:
        """Where the entries' stored bytes lie: in the file, or in a part of it."""
        return self.source

    def place(self, row: int) -> tuple[int, int]:
        """Where an entry's stored content starts in `stored_source`, and its size."""
        return int(self.entries.start[row]), int(self.entries.stored[row])

    def ciphers(self, row: int) -> Sequence[Cipher]:
        """The ciphers around an entry's stored content, the outermost first."""
        return ()

    def checks(self, row: int) -> list[Check]:
        """The checksums of an entry, each ready to be fed."""
        return []

    def compression(self, row: int) -> Compression:
        """The codec of an entry; FormatError when nobody knows it."""
        return COMPRESS.get(self.codec(row))

    def columns(self) -> Iterator[tuple[str, Array]]:
        """What the archive keeps of each entry beyond its sizes, for long lists: titles and columns."""
        yield from ()

    def lock(self) -> tuple[bool, str]:
        """Whether some of it is locked, and the name of the key that opens it, if it is available."""
        return False, ""

    def refusal(self, row: int) -> str:
        """Why an entry is not taken out; empty when it can be."""
        return ""

    @property
    def kept_beside(self) -> tuple[str, ...]:
        """The names of other files beside its own in which parts of it lie."""
        return self.cut.names[1:] if self.cut is not None else ()

    def names_beside(self, own: str) -> dict[str, str]:
        """The names that the files beside it have when its own file is called `own`, by their names now.

        RefusedError when there are such files and their names cannot follow.
        """
        if self.cut is None:
            return {}
        if not is_numbered(own):
            said = f"{self.source.name} is cut into {len(self.cut.names)} pieces, which are named by number"
            raise RefusedError(said, f"a name that ends like {self.cut.names[0]}")
        return {name: numbered(own, index) for index, name in enumerate(self.cut.names) if index}

    def sources_beside(self) -> dict[str, Source]:
        """The volumes beside it, by name; none of an archive that is cut into pieces, which are one source."""
        return {}

    def extent(self) -> int:
        """Where the archive ends in its source, as far as it says so."""
        return self.source.size

    def check_overlaps(self) -> None:
        """FormatError when the directory as a whole is a trap or a wreck, so that nothing is taken out."""

    def encode_name(self, name: str) -> bytes:
        """A new entry's name as the archive stores names; UnicodeEncodeError when it cannot be."""
        return name.encode(self.entries.names.encoding)

    @abstractmethod
    def encode(self, spool: Spool, chunks: Iterable[bytes], like: int) -> NewContent:
        """New content as this archive would store it, but for ciphers, in a spool; `like` is the entry that it
        replaces, or is most like. Safe to call from several threads."""

    def varied(self, row: int, how: str, number: int = 0) -> bytes:
        """Content for trying out what may take the place of an entry's, or stand beside it."""
        return varied(self.content(row), how, number)

    def as_read_back(self, content: bytes, row: int) -> bytes:
        """What content is when it is read again that was stored in the place of an entry's: the same, unless that loses
        something."""
        return content

    @abstractmethod
    def plan(self, edit: Edit, each: bool = False, folder: Path | None = None, pinned: bool = False) -> Plan:
        """How the file is written with changes; RefusedError when it cannot be written.

        With `each` every part is made again, which proves the format; with `pinned` what does not change stays
        where it is, as far as the format allows. Temporary files go to `folder`.
        """

    def file_plan(self, edit: Edit, folder: Path | None = None, pinned: bool = False) -> Plan:
        """The same with what lies around the archive: the file's own bytes."""
        made = self.plan(edit, folder=folder, pinned=pinned)
        return made if self.envelope is None else self.envelope.planned(made, folder)

    def reread(self, source: Source, beside: Beside | None = None) -> Archive:
        """A file's own bytes as an archive of the same format, with the same keys; `beside` finds its volumes."""
        if self.envelope is None:
            return self.reopened(source, beside)
        made = self.reopened(self.envelope.view(source), beside)
        made.envelope = self.envelope
        return made

    @abstractmethod
    def reopened(self, source: Source, beside: Beside | None = None) -> Archive:
        """Other bytes as an archive of the same format, with the same keys; volumes are its own unless `beside` finds
        others."""

    @abstractmethod
    def prove(self, on_progress: Callable[[int], None] = lambda size: None) -> Proof:
        """Read it, write it, compare every byte; nothing is stored."""

    @abstractmethod
    def fresh_name(self, like: int) -> bytes:
        """A name, as it is stored, that no entry has, for a new one like another."""

    # names

    @functools.cached_property
    def names(self) -> list[str]:
        """The entries' paths, each with its own: forward slashes, otherwise as the archive says. Not safe to print: see
        `shown`.

        An entry that has only a key is called by that, and by what its content is: `unnamed/3f9c22d01b7e4a55.png`. One
        of several variants of a path has its mark: `letters/arrival@de.txt`. Of entries with the same name the first
        has it plain, the others are `channel-buoys~2`, `channel-buoys~3` in the order of the directory. Folders are not
        told apart.
        """
        return distinct_paths(self.repeating_names, identity)

    @functools.cached_property
    def repeating_names(self) -> list[str]:
        """The same as the archive has them: entries may share a name."""
        if self.variants is None:
            return self.paths
        return [marked(path, variant) for path, variant in zip(self.paths, self.variants, strict=True)]

    @functools.cached_property
    def paths(self) -> list[str]:
        """The entries' paths, one for all variants."""
        names = self.entries.names.all()
        if self.entries.nameless:
            known = self.known
            return [known[row] if row in known else self._stand_in(row, name) for row, name in enumerate(names)]
        if "\\" in "".join(names):
            names = [clean(name) for name in names]
        for row in self.folders:
            names[row] = names[row].rstrip("/") + "/"
        return names

    @property
    def variants(self) -> list[str] | None:
        """Which variant of its path each entry is; None when the format has none."""
        return None

    @property
    def known(self) -> dict[int, str]:
        """The paths of entries that have only keys, as far as somebody knows them beyond doubt."""
        return {}

    def is_unnamed(self, row: int) -> bool:
        """Whether an entry has only a key that nobody knows a path for."""
        return self.entries.nameless and row not in self.known

    def plain_names(self) -> Texts | None:
        """The names as they are stored, when that is all there is to them: printable ASCII without backslashes."""
        texts = self.entries.names
        if self.entries.nameless or self.variants is not None or not len(texts) or not texts.lengths.all():
            return None
        return texts if are_plain(texts, self.folders) else None

    def _stand_in(self, row: int, key: str) -> str:
        """The name of an entry that has none."""
        if row in self.folders:
            return f"{UNNAMED}/{key}/"
        text = self.extension(row)
        return f"{UNNAMED}/{key}.{text}" if text else f"{UNNAMED}/{key}"

    @functools.cached_property
    def folders(self) -> frozenset[int]:
        """The entries that are folders: they have no content."""
        values = self.entries.folders
        return frozenset(np.flatnonzero(values).tolist()) if values is not None else frozenset()

    @functools.cached_property
    def backslashed(self) -> bool:
        """Whether the archive's own names have backslashes between their folders."""
        whole = b"\0".join(self.entries.names.raws())
        return b"\\" in whole and b"/" not in whole

    @functools.cached_property
    def rows(self) -> dict[str, int]:
        """Path -> entry; the first of several with one name."""
        return {name: row for row, name in reversed(list(enumerate(self.names)))}

    def rows_of(self, name: str) -> list[int]:
        """The entries of a path: by name, or where there are only hashes by the key of that path."""
        row = self.rows.get(name)
        if row is None:
            row = self.rows.get(clean(name), self._spellings.get(clean(name)))
        return [] if row is None else [row]

    @functools.cached_property
    def _spellings(self) -> dict[str, int]:
        """Entries by what else they are called: as they are shown, and as they are on disk. A name goes before
        these."""
        found: dict[str, int] = {}
        for row, (name, place) in enumerate(zip(self.names, self.disk_names, strict=True)):
            for spelling in (clean(shown(name)), place):
                if isinstance(spelling, str) and spelling != name:
                    found.setdefault(spelling, row)
        return found

    @functools.cached_property
    def disk_names(self) -> list[str | Refusal]:
        """Where each entry goes on disk, or why it goes nowhere: the same for every command."""
        return disk_names(self.names)

    @functools.cached_property
    def addresses(self) -> list[Address]:
        """The address of each entry, in the order of the directory: unique, also where names repeat."""
        counts: dict[str, int] = {}
        found = []
        for name in map(identity, self.repeating_names):
            number = counts.get(name, 0)
            counts[name] = number + 1
            found.append((name, number))
        return found

    @functools.cached_property
    def _by_address(self) -> dict[Address, int]:
        return {address: row for row, address in enumerate(self.addresses)}

    def row_at(self, address: Address) -> int | None:
        """The entry at an address."""
        return self._by_address.get(address)

    def is_repeated(self, name: str) -> bool:
        """Whether several entries have that name in the archive."""
        return (identity(name), 1) in self._by_address

    @functools.cached_property
    def rows_by_path(self) -> dict[str, list[int]]:
        """All variants of each path."""
        found: dict[str, list[int]] = {}
        for row, path in enumerate(self.paths):
            found.setdefault(path, []).append(row)
        return found

    def codec(self, row: int) -> str:
        """The name of an entry's codec; `?` when the layout does not know its number."""
        index = int(self.entries.codec[row])
        return self.entries.codecs[index] if index >= 0 else "?"

    @property
    def called(self) -> str:
        """The format with what lies around it, as users know it."""
        around = [self.envelope.title] if self.envelope is not None else []
        around += [f"{len(self.cut.names)} pieces"] if self.cut is not None else []
        return ", ".join([self.title, *around])

    @property
    def codec_labels(self) -> list[str]:
        """The codecs in few words."""
        return self.entries.codecs

    def entry(self, row: int) -> Entry:
        """One entry."""
        of, name = self.entries, self.names[row]
        return Entry(self, row, name, int(of.start[row]), int(of.stored[row]), int(of.size[row]), self.codec(row))

    # content

    def content(self, row: int) -> bytes:
        """An entry's content, its checksums verified; FormatError when it is damaged."""
        size = int(self.entries.size[row])
        start, stored = self.place(row)
        if max(stored, size) > IN_MEMORY:
            said = f"{self.label(row)} has {size:,} bytes, too many to hold in memory"
            raise RefusedError(said, "`unpack`, which needs none")
        if max(stored, size) > WHOLE and not self.padded:
            return b"".join(self.chunks(row))
        data = self.stored_source.read(start, stored) if stored else b""
        checks = self.checks(row)
        _feed(checks, True, data)
        _finish(checks, True)
        try:
            ciphers = self.ciphers(row)
            if ciphers:
                data = b"".join(decrypted([data], ciphers))
            content = self._decoded(row, data, size)
        except ContentError as error:
            raise self.damaged(row, error) from error
        _feed(checks, False, content)
        _finish(checks, False)
        return content

    def _decoded(self, row: int, data: bytes, size: int) -> bytes:
        if not data and not size:  # many formats store nothing for an empty file, whatever its codec
            return b""
        if not self.padded:
            return self.compression(row).decode(data, size)
        content = self.compression(row).decode_start(data, size)  # behind it there may be a cipher's padding
        if len(content) != size:
            raise ContentError(f"{len(content)} bytes, expected {size}")
        return content

    def chunks(self, row: int) -> Iterator[bytes]:
        """An entry's content in pieces, whatever its size; its checksums are verified by the end."""
        size = int(self.entries.size[row])
        start, stored = self.place(row)
        if max(stored, size) <= WHOLE or (self.padded and max(stored, size) <= IN_MEMORY):
            yield self.content(row)
            return
        checks = self.checks(row)
        chunks = _fed(checks, self.stored_source.chunks(start, stored))
        try:
            chunks = decrypted(chunks, self.ciphers(row))
            for chunk in self.compression(row).decode_stream(chunks, size):
                _feed(checks, False, chunk)
                yield chunk
        except ContentError as error:
            raise self.damaged(row, error) from error
        _finish(checks, True)
        _finish(checks, False)

    def beginning(self, row: int, size: int) -> bytes:
        """The first bytes of an entry's content, unverified and cheap; what can be had of them when it is damaged."""
        try:
            codec = self.compression(row)
            whole = int(self.entries.size[row])
            reach = getattr(codec, "reach", None)  # of a codec that must know the whole size to show a beginning
            wanted = min(WHOLE, reach(whole)) if reach else max(256, 2 * size)
            start, stored = self.place(row)
            data = self.stored_source.read(start, min(stored, wanted)) if stored else b""
            ciphers = self.ciphers(row)
            if ciphers:
                data = b"".join(decrypted([data], ciphers))
            if reach:
                return next(iter(codec.decode_stream([data], whole)), b"")[:size]
            return codec.decode_start(data, size)
        except (ContentError, FormatError, RefusedError):
            return b""

    def extension(self, row: int) -> str:
        """The ending that an entry without a name gets, by its content."""
        try:
            return filetypes.extension_by_content(self.beginning(row, filetypes.HEAD))
        except LockedError:
            return ""

    def kind(self, row: int) -> str:
        """What an entry's content is, by its beginning."""
        if row in self.folders:
            return "folder"
        if not self.entries.size[row]:
            return "empty"
        if self.codec(row) == "?":
            return "?"
        head = self.beginning(row, filetypes.HEAD)
        return filetypes.kind_by_content(head) if head else "?"

    def damaged(self, row: int, error: ContentError) -> FormatError:
        """The error for an entry that cannot be decoded."""
        return FormatError(
            self.source.name,
            f"{shown(self.names[row])}: {error.message}",
            offset=int(self.entries.start[row]),
            hint="a fresh copy of the file: this entry is damaged",
        )

    def label(self, row: int) -> str:
        """An entry's whole path, safe to print."""
        return f"{self.source.name}/{shown(self.names[row])}"


def _feed(checks: Sequence[Check], stored: bool, data: bytes) -> None:
    for check in checks:
        if check.stored == stored:
            check.update(data)


def _fed(checks: Sequence[Check], chunks: Iterator[bytes]) -> Iterator[bytes]:
    for chunk in chunks:
        _feed(checks, True, chunk)
        yield chunk


def _finish(checks: Sequence[Check], stored: bool) -> None:
    for check in checks:
        if check.stored == stored:
            check.finish()


def identity(name: str) -> str:
    """What stays of an entry's name when its content becomes of another kind: without the ending of a stand-in name."""
    return name.partition(".")[0] if name.startswith(f"{UNNAMED}/") else name
