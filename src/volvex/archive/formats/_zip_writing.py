"""Writing ZIP archives again: which bytes stay, what is new, and the directory measured again (APPNOTE 6.3.10)."""

from __future__ import annotations

import struct
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

import numpy as np

from volvex.archive.formats import _zip_directory as zd
from volvex.archive.formats._base import CRC, content_piece, joined, span
from volvex.archive.formats._zip_locks import AE, Lock, locked
from volvex.errors import RefusedError
from volvex.layout.columns import Array
from volvex.layout.entries import Entries
from volvex.layout.write.plan import BLANK, Edit, NewContent, Piece, Plan
from volvex.source import Source, Spool

NUMBERS = {"none": 0, "deflate": 8, "bzip2": 12, "lzma_headed": 14, "zstd": 93, "xz": 95}
NEEDS = {0: 20, 8: 20, 12: 46, 14: 63, 93: 63, 95: 63}  # the version that a reader must have
ENCRYPTED, DESCRIBED, LZMA_ENDS, UTF8 = 0x0001, 0x0008, 0x0002, 0x0800
KEPT_FLAGS = 0xFFFF & ~(ENCRYPTED | DESCRIBED | 0x0006)
NEEDS_WIDE, NEEDS_AES = 45, 51

FIRST_DAY = 0x21 << 16  # 1 January 1980, as FAT has it


@dataclass(frozen=True)
class _New:
    """An entry that is rewritten."""

    name: bytes
    flags: int
    method: int
    time: int
    crc: int
    stored: int
    size: int
    lock: Lock | None
    local_extra: bytes
    made: int
    inner: int
    outer: int
    extra: bytes
    comment: bytes
    content: Piece

    @property
    def stored_method(self) -> int:
        return 99 if self.lock is not None and self.lock.kind == AE else self.method

    @property
    def needs(self) -> int:
        wide = NEEDS_WIDE if max(self.stored, self.size) >= zd.LARGE else 0
        return max(NEEDS[self.method], wide, NEEDS_AES if self.stored_method == 99 else 0)

    def _aes(self) -> bytes:
        if self.lock is None or self.lock.kind != AE:
            return b""
        return struct.pack("<HHH2sBH", zd.AES, 7, self.lock.version, b"AE", self.lock.strength, self.method)

    def local(self) -> bytes:
        """The local header; sizes of which one is too large stand both in the 64-bit form."""
        extra = self.local_extra + self._aes()
        stored, size = self.stored, self.size
        if max(stored, size) >= zd.LARGE:
            extra += struct.pack("<HHQQ", zd.WIDE, 16, size, stored)
            stored = size = zd.LARGE
        return (
            struct.pack(
                "<4sHHHIIIIHH",
                zd.LOCAL,
                self.needs,
                self.flags,
                self.stored_method,
                self.time,
                self.crc,
                stored,
                size,
                len(self.name),
                len(extra),
            )
            + self.name
            + extra
        )

    def central(self, start: int) -> bytes:
        """The record in the directory."""
        told = (self.size, self.stored, start)
        wide = b"".join(number.to_bytes(8, "little") for number in told if number >= zd.LARGE)
        extra = self.extra + self._aes() + (struct.pack("<HH", zd.WIDE, len(wide)) + wide if wide else b"")
        size, stored, start = (min(number, zd.LARGE) for number in told)
        needs = max(self.needs, NEEDS_WIDE if wide else 0)
        return (
            struct.pack(
                "<4sHHHHIIIIHHHHHII",
                zd.CENTRAL,
                self.made,
                needs,
                self.flags,
                self.stored_method,
                self.time,
                self.crc,
                stored,
                size,
                len(self.name),
                len(extra),
                len(self.comment),
                0,
                self.inner,
                self.outer,
                start,
            )
            + self.name
            + extra
            + self.comment
        )


class Written(Protocol):
    """What the writer asks of a ZIP archive: its directory as it is stored, and why an entry cannot be written."""

    source: Source
    entries: Entries
    end: zd.End
    directory: zd.Directory
    flags: Array

    @property
    def refusals(self) -> dict[int, str]: ...

    def __len__(self) -> int: ...

    def label(self, row: int) -> str: ...

    def local(self, row: int) -> tuple[int, bytes]: ...

    def secret_of(self, row: int) -> bytes: ...


class Writer:
    """Makes the plan of a ZIP archive with changes."""

    def __init__(self, archive: Written, locks: Mapping[int, Lock], folder: Path | None, pinned: bool) -> None:
        self.archive, self.locks, self.folder, self.pinned = archive, locks, folder, pinned
        self._spools: list[Spool] = []
        self._size = 0
        self._pieces: list[Piece] = []

    def plan(self, edit: Edit, each: bool) -> Plan:
        """The new file as pieces."""
        archive = self.archive
        if archive.refusals:
            row, reason = min(archive.refusals.items())
            raise RefusedError(
                f"{archive.label(row)}: {reason}, so this archive is not written", "a fresh copy of the file"
            )
        new = {
            row: self._made(row, archive.entries.names.raw(row), content, True)
            for row, content in edit.replaced.items()
        }
        added = [self._made(added.like, added.name, added.content, False) for added in edit.added]
        starts = archive.entries.start.copy()
        self._place_old(new, edit.removed, starts, each)
        loose = [row for row in new if starts[row] < 0]
        for row in loose:
            starts[row] = self._put(new[row])
        places = [self._put(new_entry) for new_entry in added]
        data = self._directory(new, edit.removed, starts, list(zip(added, places, strict=True)), each)
        begins = self._size
        self._add(Piece.of(data))
        self._add(Piece.of(self._ends(begins, len(data), len(archive) - len(edit.removed) + len(added))))
        return Plan(joined(self._pieces), self._size, tuple(self._spools))

    def _add(self, piece: Piece) -> None:
        self._pieces.append(piece)
        self._size += piece.size

    def _put(self, new_entry: _New) -> int:
        start = self._size
        self._add(Piece.of(new_entry.local()))
        self._add(new_entry.content)
        return start

    # contents

    def _place_old(self, new: Mapping[int, _New], removed: set[int], starts: Array, each: bool) -> None:
        """Go through the stretches in their order; runs in which nothing changes are one piece."""
        archive, source = self.archive, self.archive.source
        order = np.argsort(archive.entries.start, kind="stable")
        begins = archive.entries.start[order]
        ends = np.append(begins[1:], archive.end.start)
        first = int(begins[0]) if len(begins) else archive.end.start
        self._add(span(source, 0, first))
        special = np.zeros(len(archive), bool)
        special[[*new, *removed]] = True
        odd = np.flatnonzero(special[order] | each)
        at = 0
        for place in [*odd.tolist(), len(order)]:
            if place > at:
                starts[order[at:place]] += self._size - int(begins[at])
                self._add(span(source, int(begins[at]), int(ends[place - 1])))
            if place == len(order):
                break
            row, begin, end = int(order[place]), int(begins[place]), int(ends[place])
            if row in new or row in removed:
                starts[row] = self._replace(new.get(row), row, begin, end)
            else:
                starts[row] = self._size
                self._add(span(source, begin, end))
            at = place + 1

    def _replace(self, new_entry: _New | None, row: int, begin: int, end: int) -> int:
        """Put new content in the place of an old stretch; where it starts, -1 when it must go behind all others."""
        source = self.archive.source
        behind = self._own_end(row)
        if self.pinned:
            fits = new_entry is not None and len(new_entry.local()) + new_entry.stored <= behind - begin
            start = self._put(new_entry) if fits and new_entry is not None else -1
            done = len(new_entry.local()) + new_entry.stored if fits and new_entry is not None else 0
            self._add(
                Piece.of(bytes(behind - begin - done))
            )  # a hole of zeros, so that nothing of the old entry is found
            self._add(span(source, behind, end))
            return start
        start = self._put(new_entry) if new_entry is not None else -1
        rest = source.peek(behind, min(end - behind, 1 << 16))
        if rest.strip(b"\0"):  # nobody knows what it is
            self._add(span(source, behind, end))
        return start

    def _own_end(self, row: int) -> int:
        """Where an entry's stored bytes end, with the data descriptor behind them."""
        archive = self.archive
        end = archive.local(row)[0] + int(archive.entries.stored[row])
        if not archive.flags[row] & DESCRIBED:
            return end
        data = archive.source.peek(end, 24)
        wide = max(int(archive.entries.stored[row]), int(archive.entries.size[row])) >= zd.LARGE
        sizes = struct.pack("<QQ" if wide else "<II", int(archive.entries.stored[row]), int(archive.entries.size[row]))
        for mark in (4 if data[:4] == zd.DESCRIPTOR else 0, 0):
            for form in (sizes, struct.pack("<QQ", int(archive.entries.stored[row]), int(archive.entries.size[row]))):
                if data[mark + 4 : mark + 4 + len(form)] == form:
                    return end + mark + 4 + len(form)
        return end

    def _made(self, like: int, name: bytes, content: NewContent, same: bool) -> _New:
        """An entry rewritten: `same` when it stands for `like` itself."""
        if like == BLANK:
            return _blank(name, content)
        archive, heads = self.archive, self.archive.directory.heads
        lock, method, crc = self.locks.get(like), NUMBERS[content.codec], content.checksums[CRC]
        piece, stored = content_piece(content), content.stored
        if lock is not None:
            piece = self._locked(lock, content, archive.secret_of(like), crc)
            stored = piece.size
        flags = int(archive.flags[like]) & KEPT_FLAGS | (ENCRYPTED if lock else 0) | (LZMA_ENDS if method == 14 else 0)
        if not same:
            flags = flags & ~UTF8 | (0 if name.isascii() else UTF8)
        number = 0 if lock is not None and lock.kind == AE and lock.version == 2 else crc
        local = zd.without(archive.local(like)[1][30 + len(name) :], zd.WIDE, zd.AES) if same else b""
        extra = zd.without(archive.directory.extra(like), zd.WIDE, zd.AES) if same else b""
        return _New(
            name,
            flags,
            method,
            int(heads["time"][like]),
            number,
            stored,
            content.size,
            lock,
            local,
            int(heads["made"][like]),
            int(heads["inner"][like]),
            int(heads["outer"][like]),
            extra,
            archive.directory.comment(like) if same else b"",
            piece,
        )

    def _locked(self, lock: Lock, content: NewContent, secret: bytes, crc: int) -> Piece:
        if not self._spools:
            self._spools.append(Spool(self.folder))
        spool = self._spools[0]
        chunks = content.source.chunks(content.offset, content.stored)
        offset, size = spool.append(locked(lock, chunks, secret, crc, crc >> 24))
        return Piece(source=spool, offset=offset, size=size)

    # the directory

    def _directory(
        self, new: Mapping[int, _New], removed: set[int], starts: Array, added: list[tuple[_New, int]], each: bool
    ) -> bytes:
        of, shift = self.archive.directory, self.archive.end.shift
        values = starts - shift
        buffer = bytearray(of.data)
        wide = of.heads["start"] == zd.LARGE
        plain = np.flatnonzero(~wide & (values >= 0) & (values < zd.LARGE))
        flat = np.frombuffer(buffer, np.uint8)
        flat[of.at[plain][:, None] + np.arange(42, 46)] = values[plain].astype("<u4").view(np.uint8).reshape(-1, 4)
        special = {row: new_entry.central(int(values[row])) for row, new_entry in new.items()} | dict.fromkeys(
            removed, b""
        )
        for row in np.flatnonzero(wide | (values >= zd.LARGE)).tolist():
            if row not in special:
                special[row] = self._widened(row, int(values[row]), bytes(buffer[int(of.at[row]) :][:46]))
        parts = (
            list(_spliced(buffer, of.at, special))
            if not each
            else [self._again(row, values) for row in range(len(values))]
        )
        return b"".join([*parts, *(new_entry.central(start - shift) for new_entry, start in added)])

    def _widened(self, row: int, start: int, head: bytes) -> bytes:
        """A record that tells its place in the 64-bit form."""
        of = self.archive.directory
        name, extra, comment = of.names.raw(row), of.extra(row), of.comment(row)
        heads, at, found = of.heads[row], 0, False
        while at + 4 <= len(extra):
            id, size = struct.unpack_from("<HH", extra, at)
            if id == zd.WIDE:
                before = 8 * sum(int(heads[one]) == zd.LARGE for one in ("size", "stored"))
                place = at + 4 + before
                rest = extra[place + 8 :] if heads["start"] == zd.LARGE else extra[place:]
                grown = before + 8 + max(0, size - before - (8 if heads["start"] == zd.LARGE else 0))
                extra = (
                    extra[:at]
                    + struct.pack("<HH", zd.WIDE, grown)
                    + extra[at + 4 : place]
                    + start.to_bytes(8, "little")
                    + rest
                )
                found = True
                break
            at += 4 + size
        if not found:
            extra += struct.pack("<HHQ", zd.WIDE, 8, start)
        return (
            head[:30]
            + struct.pack("<H", len(extra))
            + head[32:42]
            + struct.pack("<I", zd.LARGE)
            + name
            + extra
            + comment
        )

    def _again(self, row: int, values: Array) -> bytes:
        """A record from what was read of it: for the proof."""
        of = self.archive.directory
        one, wide = of.heads[row].copy(), b""
        for column, name in ((of.size, "size"), (of.stored, "stored"), (values, "start")):
            if one[name] == zd.LARGE:
                wide += int(column[row]).to_bytes(8, "little")
            else:
                one[name] = int(column[row])
        extra = of.extra(row)
        for id, body in zd.extras(extra) if wide else ():
            if id == zd.WIDE:
                extra = extra.replace(
                    struct.pack("<HH", id, len(body)) + body[: len(wide)],
                    struct.pack("<HH", id, len(body)) + wide[: len(body)],
                    1,
                )
        return bytes(one.tobytes()) + of.names.raw(row) + extra + of.comment(row)

    def _ends(self, begins: int, size: int, count: int) -> bytes:
        """The end records, in the 64-bit form where the old ones were or the numbers need it."""
        end, source = self.archive.end, self.archive.source
        old = source.read(end.at, 22)
        begins -= end.shift
        wide = end.wide or count >= zd.MANY or max(size, begins) >= zd.LARGE
        out = b""
        if wide:
            record = (
                source.read(end.between, end.at - 20 - end.between)
                if end.wide
                else struct.pack("<4sQHHII", zd.END64, 44, NEEDS_WIDE, NEEDS_WIDE, 0, 0).ljust(56, b"\0")
            )
            out = record[:24] + struct.pack("<QQQQ", count, count, size, begins) + record[56:]
            out += struct.pack("<4sIQI", zd.LOCATOR, 0, begins + size, 1)
        was = struct.unpack("<HHHHII", old[4:20])
        numbers = [
            limit if number >= limit or (end.wide and before == limit) else number
            for number, before, limit in zip(
                (count, count, size, begins), was[2:], (zd.MANY, zd.MANY, zd.LARGE, zd.LARGE), strict=True
            )
        ]
        return out + zd.END + old[4:8] + struct.pack("<HHII", *numbers) + old[20:22] + end.comment


def _blank(name: bytes, content: NewContent) -> _New:
    """An entry that is like no other: dated 1980, the format's first day, and without attributes."""
    method, flags = NUMBERS[content.codec], 0 if name.isascii() else UTF8
    piece, crc = content_piece(content), content.checksums[CRC]
    return _New(name, flags, method, FIRST_DAY, crc, content.stored, content.size, None, b"", 20, 0, 0, b"", b"", piece)


def _spliced(buffer: bytearray, at: Array, special: Mapping[int, bytes]) -> Iterator[bytes]:
    """The records, those of `special` replaced."""
    ends = np.append(at[1:], len(buffer))
    done = 0
    for row in sorted(special):
        yield bytes(buffer[done : int(at[row])])
        yield special[row]
        done = int(ends[row])
    yield bytes(buffer[done:])
