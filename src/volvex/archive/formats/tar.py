"""TAR archives (POSIX.1-2017, pax interchange format and ustar; the GNU form of long names), bare or compressed as a
whole.

An entry starts at its first header block, which may be one that tells a long name. Entries that do not change keep
their blocks.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from volvex.archive.archive import Archive
from volvex.archive.envelope import Compressed
from volvex.archive.formats._base import OpenFormatArchive, content_piece, entries_of, joined, span
from volvex.archive.safe_names import shown
from volvex.codec import COMPRESS
from volvex.errors import FRESH, ContentError, FormatError, RefusedError
from volvex.layout.columns import Array
from volvex.layout.inspect.stretch import Stretch
from volvex.layout.keyring import KeyRing
from volvex.layout.write.plan import Edit, NewContent, Piece, Plan
from volvex.source import Beside, Source

TITLE = "TAR"
PRIORITY = 20
WHY = "a header block whose sum is right"
BLOCK, RECORD = 512, 10240
NAME, MODE, SIZE, SUM, TYPE, LINK, MAGIC, PREFIX = (
    slice(0, 100),
    slice(100, 108),
    slice(124, 136),
    slice(148, 156),
    slice(156, 157),
    slice(157, 257),
    slice(257, 265),
    slice(345, 500),
)
FILES, FOLDER, LINKS = b"0\07", b"5", b"12"
PAX, PAX_ALL, GNU = b"x", b"g", b"ustar  \0"
LONGEST_TOLD = 1 << 24  # bytes of a header that tells a name or attributes
COMPRESSIONS = {b"\x1f\x8b\x08": "gzip", b"BZh": "bzip2", b"\xfd7zXZ\0": "xz", b"\x28\xb5\x2f\xfd": "zstd"}
OCTAL_LIMIT = 1 << 33  # sizes from here on do not fit in eleven octal digits
HEAD_STORED = 1 << 16


def knows(source: Source) -> bool:
    """A first block whose sum is right, bare or behind a compression."""
    return is_header(source.peek(0, BLOCK)) or compression_of(source) is not None


def compression_of(source: Source) -> str | None:
    """The compression around a TAR archive; None when it is none, or there is no archive in it."""
    head = source.peek(0, 6)
    codec = next((name for mark, name in COMPRESSIONS.items() if head.startswith(mark)), None)
    if codec is None:
        return None
    try:
        begins = COMPRESS.get(codec).decode_start(source.peek(0, 1 << 20 if codec == "bzip2" else HEAD_STORED), BLOCK)
    except ContentError:
        return None
    return codec if is_header(begins) else None


def opened(source: Source, keys: KeyRing) -> Archive:
    codec = None if is_header(source.peek(0, BLOCK)) else compression_of(source)
    if codec is None:
        return Tar(source)
    envelope = Compressed(codec)
    made = Tar(envelope.view(source))
    made.envelope = envelope
    return made


def is_header(block: bytes) -> bool:
    """Whether a block is a header: with the mark of ustar, or of the older form that had none."""
    if len(block) < BLOCK or not block[0] or not block[SUM].strip(b" \0"):
        return False
    if block[MAGIC][:5] != b"ustar" and (block[257] or _number(block[SIZE]) is None):
        return False
    return _sum_is_right(block)


def _sum_is_right(block: bytes) -> bool:
    stored, plain = _number(block[SUM]), _sum(block)
    return stored == plain or stored == plain - 256 * sum(byte > 127 for byte in block)  # of signed bytes


def _sum(block: bytes) -> int:
    """The header's sum, its own bytes taken as blanks."""
    return sum(block[: SUM.start]) + 8 * ord(" ") + sum(block[SUM.stop :])


def _number(text: bytes) -> int | None:
    """A number in octal digits, or in base 256 where its highest bit is set; None when it is neither."""
    if text[0] & 0x80:
        return int.from_bytes(bytes([text[0] & 0x7F]) + text[1:], "big")
    digits = text.strip(b" \0")
    return int(digits or b"0", 8) if not digits.strip(b"01234567") else None


def _written(number: int) -> bytes:
    return b"%011o\0" % number if number < OCTAL_LIMIT else bytes([0x80]) + number.to_bytes(11, "big")


@dataclass
class _Entry:
    """An entry while the headers are read."""

    start: int
    header: int = 0  # where its own block is
    data: int = 0
    size: int = 0
    end: int = 0
    name: bytes = b""
    type: bytes = b""
    link: bytes = b""
    told: dict[bytes, bytes] = field(default_factory=dict)


class Tar(OpenFormatArchive):
    """A TAR archive."""

    title = TITLE

    def __init__(self, source: Source, lenient: bool = False) -> None:
        """With `lenient`, a damaged archive ends where it is damaged."""
        super().__init__()
        self.source = source
        self._common: dict[bytes, bytes] = {}  # attributes told for all that follow
        self.told = list(self._sound() if lenient else self._walk())
        rows = self.told
        names = [row.name.rstrip(b"/") + b"/" if row.type == FOLDER else row.name for row in rows]
        self.entries = entries_of(
            names, [entry.data for entry in rows], [entry.size for entry in rows], [entry.size for entry in rows]
        )
        self.end = rows[-1].end if rows else 0

    def _sound(self) -> Iterator[_Entry]:
        """The entries up to the first that is not whole."""
        try:
            yield from self._walk()
        except FormatError:
            return

    def _walk(self) -> Iterator[_Entry]:
        at, source, ends = 0, self.source, False
        entry = _Entry(0)
        while at + BLOCK <= source.size:
            block = source.read(at, BLOCK)
            if not block.strip(b"\0"):
                ends = True
                break
            size = _number(block[SIZE])
            if not _sum_is_right(block) or size is None:
                raise FormatError(
                    source.name,
                    "no valid header here: its checksum is wrong",
                    offset=at,
                    field=f"header[{at // BLOCK}]",
                    hint="a fresh copy of the file: it may be damaged",
                )
            kind = block[TYPE]
            if kind in (PAX, PAX_ALL) or kind in (b"L", b"K"):
                self._tell(entry, kind, at, size)
                at += BLOCK + size + -size % BLOCK
                continue
            self._complete(entry, block, at, kind, size)
            yield entry
            at = entry.end
            entry = _Entry(at)
        if not ends and source.size % BLOCK:
            raise FormatError(
                source.name, "it has no end mark, and ends within a block", offset=source.size, hint=FRESH
            )
        if entry.told:
            raise FormatError(source.name, "the file ends after a header that announces another", offset=at)

    def _tell(self, entry: _Entry, kind: bytes, at: int, size: int) -> None:
        if size > LONGEST_TOLD:
            raise FormatError(self.source.name, f"{size} bytes of attributes for one entry", offset=at)
        data = self.source.read(at + BLOCK, size)
        if kind in (b"L", b"K"):
            entry.told[b"path" if kind == b"L" else b"linkpath"] = data.split(b"\0", 1)[0]
            return
        (self._common if kind == PAX_ALL else entry.told).update(self._attributes(data, at))
        if kind == PAX:
            entry.told.setdefault(b"", b"")

    def _attributes(self, data: bytes, at: int) -> dict[bytes, bytes]:
        found, place = dict[bytes, bytes](), 0
        while place < len(data):
            length, blank, _ = data[place : place + 20].partition(b" ")
            size = int(length) if blank and length.isdigit() else 0
            line = data[place + len(length) + 1 : place + size]
            if size <= len(length) + 2 or not line.endswith(b"\n") or b"=" not in line:
                raise FormatError(self.source.name, "invalid attributes", offset=at + BLOCK + place)
            name, _, value = line[:-1].partition(b"=")
            found[name] = value
            place += size
        return found

    def _complete(self, entry: _Entry, block: bytes, at: int, kind: bytes, size: int) -> None:
        record = {**self._common, **entry.told}
        if b"size" in record and record[b"size"].isdigit():
            size = int(record[b"size"])
        prefix = block[PREFIX].split(b"\0", 1)[0] if block[MAGIC] == b"ustar\x0000" else b""
        name = block[NAME].split(b"\0", 1)[0]
        entry.name = record.get(b"path", prefix + b"/" + name if prefix else name)
        entry.link = record.get(b"linkpath", block[LINK].split(b"\0", 1)[0])
        entry.type, entry.header, entry.data = kind, at, at + BLOCK
        entry.size = 0 if kind in (*(LINKS[i : i + 1] for i in range(2)), FOLDER, b"3", b"4", b"6") else size
        entry.end = min(entry.data + entry.size + -entry.size % BLOCK, max(self.source.size, entry.data + entry.size))
        if entry.data + entry.size > self.source.size:
            raise FormatError(
                self.source.name,
                f"{shown(entry.name.decode(errors='replace'))}: {entry.size} bytes of content reach past the end of "
                f"the file",
                offset=at,
                hint="a fresh copy of the file: it may be cut off",
            )

    def refusal(self, row: int) -> str:
        entry = self.told[row]
        if entry.type in (b"1", b"2"):
            return f"it is a link to {shown(entry.link.decode(errors='surrogateescape'))}"
        if entry.type == b"S" or b"GNU.sparse.major" in entry.told:
            return "it is stored with holes in it"
        return "" if entry.type in (b"0", b"\0", b"7", FOLDER) else "it is a device or something else that is no file"

    def columns(self) -> Iterator[tuple[str, Array]]:
        modes = [_number(self.source.read(entry.header, BLOCK)[MODE]) or 0 for entry in self.told]
        yield "mode", np.array([*(f"{mode:04o}" for mode in modes), None], object)[:-1]

    def covering(self, at: int) -> Stretch:
        row = next((entry for entry in reversed(self.told) if entry.start <= at), None)
        return Stretch(at, 0, "content", shown(row.name.decode(errors="replace")) if row else "the first header")

    def extent(self) -> int:
        """With the blocks of zeros that end it, and fill its last record where they do."""
        whole = self.end + 2 * BLOCK + -(self.end + 2 * BLOCK) % RECORD
        filled = whole <= self.source.size and not self.source.read(self.end, whole - self.end).strip(b"\0")
        return whole if filled else min(self.source.size, self.end + 2 * BLOCK)

    def reopened(self, source: Source, beside: Beside | None = None) -> Tar:
        return Tar(source)

    # writing

    def plan(self, edit: Edit, each: bool = False, folder: Path | None = None, pinned: bool = False) -> Plan:
        pieces: list[Piece] = []
        for row, entry in enumerate(self.told):
            if row in edit.replaced:
                pieces += self._replaced(entry, edit.replaced[row])
            elif row not in edit.removed:
                pieces += (
                    [Piece.of(self._again(entry)), span(self.source, entry.data, entry.end)]
                    if each
                    else [span(self.source, entry.start, entry.end)]
                )
        if edit.added and sum(piece.size for piece in pieces) % BLOCK:  # the last block of the old ones was cut off
            pieces.append(Piece.of(bytes(-sum(piece.size for piece in pieces) % BLOCK)))
        for added in edit.added:
            pieces += self._added(self.told[added.like], added.name, added.content)
        pieces = joined(pieces)
        end = sum(piece.size for piece in pieces)
        return Plan(
            joined([*pieces, *self._tail(end, pieces)]), end + sum(piece.size for piece in self._tail(end, pieces))
        )

    def _tail(self, end: int, pieces: list[Piece]) -> list[Piece]:
        """What follows the last entry: kept as it is, or zeros that fill the last record as they did."""
        size = self.source.size - self.end
        if end == self.end or (size <= 1 << 20 and self.source.read(self.end, size).strip(b"\0")) or size > 1 << 20:
            return [span(self.source, self.end, self.source.size)]
        if self.source.size % RECORD == 0:
            size = 2 * BLOCK + -(end + 2 * BLOCK) % RECORD
        return [Piece.of(bytes(size))]

    def _again(self, entry: _Entry) -> bytes:
        """Its headers, the size and the sum computed again: for the proof."""
        before = self.source.read(entry.start, entry.header - entry.start)
        block = self.source.read(entry.header, BLOCK)
        if _number(block[SIZE]) == entry.size and block[SIZE].strip(b" \0"):
            own = block[SIZE]
            digits = len(own.strip(b" \0"))
            data = b"%0*o" % (digits, entry.size) if not own[0] & 0x80 else own
            block = block[: SIZE.start] + own.replace(own.strip(b" \0"), data, 1) + block[SIZE.stop :]
        return before + block

    def _replaced(self, entry: _Entry, content: NewContent) -> list[Piece]:
        before = self.source.read(entry.start, entry.header - entry.start)
        if entry.type not in FILES_TYPES:
            raise RefusedError(
                f"{self.source.name}/{shown(entry.name.decode(errors='replace'))}: "
                f"{self.refusal(self.told.index(entry))}",
                "another entry: only files can be changed",
            )
        if b"size" in entry.told:
            before = self._without_size(before)
        block = _summed(self.source.read(entry.header, BLOCK), content.size)
        return [Piece.of(before + block), content_piece(content), Piece.of(bytes(-content.size % BLOCK))]

    def _without_size(self, before: bytes) -> bytes:
        """The headers in front of an entry's own, with the attribute of its size left out: the block tells it."""
        out, at = b"", 0
        while at < len(before):
            block = before[at : at + BLOCK]
            size = _number(block[SIZE]) or 0
            data = before[at + BLOCK : at + BLOCK + size]
            if block[TYPE] == PAX:
                data = b"".join(
                    attribute(name, value) for name, value in self._attributes(data, 0).items() if name != b"size"
                )
            out += _summed(block, len(data)) + data + bytes(-len(data) % BLOCK)
            at += BLOCK + size + -size % BLOCK
        return out

    def _added(self, like: _Entry, name: bytes, content: NewContent) -> list[Piece]:
        block = bytearray(self.source.read(like.header, BLOCK))
        before = b"" if len(name) <= 100 else _told_name(bytes(block), name)
        block[NAME] = name[:100].ljust(100, b"\0")
        block[TYPE], block[LINK] = b"0", bytes(100)
        if block[MAGIC] == b"ustar\x0000":
            block[PREFIX] = bytes(155)
        return [
            Piece.of(before + _summed(bytes(block), content.size)),
            content_piece(content),
            Piece.of(bytes(-content.size % BLOCK)),
        ]


FILES_TYPES = (b"0", b"\0", b"7")


def _summed(block: bytes, size: int) -> bytes:
    """A header with a size, and its sum."""
    block = block[: SIZE.start] + _written(size) + block[SIZE.stop :]
    return block[: SUM.start] + b"%06o\0 " % _sum(block) + block[SUM.stop :]


def _told_name(block: bytes, name: bytes) -> bytes:
    """Headers that tell a long name, in the form of the archive."""
    gnu = block[MAGIC] == GNU
    data = name + b"\0" if gnu else attribute(b"path", name)
    head = bytearray(block)
    head[NAME] = (b"././@LongLink" if gnu else b"PaxHeaders/" + name[-80:].rpartition(b"/")[2]).ljust(100, b"\0")
    head[TYPE], head[LINK] = b"L" if gnu else PAX, bytes(100)
    return _summed(bytes(head), len(data)) + data + bytes(-len(data) % BLOCK)


def attribute(name: bytes, value: bytes) -> bytes:
    """An attribute of the pax form: its length counts its own digits."""
    rest = b" " + name + b"=" + value + b"\n"
    size = len(rest) + 1
    while len(str(size)) + len(rest) != size:
        size = len(str(size)) + len(rest)
    return str(size).encode() + rest
