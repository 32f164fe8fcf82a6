"""ZIP archives (APPNOTE 6.3.10), in the 64-bit form too, with either kind of password, whatever stands in front of
them.

Entries that do not change keep their bytes: local header, extra fields, stored content, data descriptor. What is new
gets a plain local header. Places in the directory are measured again.
"""

from __future__ import annotations

import functools
import threading
from collections.abc import Iterator, Sequence
from pathlib import Path

import numpy as np

from volvex.archive.archive import Check
from volvex.archive.formats import _zip_directory as zd
from volvex.archive.formats import _zip_locks as locks
from volvex.archive.formats._base import CrcCheck, OpenFormatArchive
from volvex.archive.safe_names import clean, shown
from volvex.codec import COMPRESS, Cipher, Compression
from volvex.errors import FRESH, FormatError, LockedError
from volvex.layout.columns import Array
from volvex.layout.entries import Entries
from volvex.layout.inspect.stretch import Stretch
from volvex.layout.keyring import KeyRing
from volvex.layout.write.plan import Edit, Plan
from volvex.source import Beside, Source

TITLE = "ZIP"
PRIORITY = 10
WHY = "its end record, and the directory in front of it"
SIGNATURES = (b"PK",)
METHODS = {0: "none", 8: "deflate", 12: "bzip2", 14: "lzma_headed", 20: "zstd", 93: "zstd", 95: "xz"}
UNKNOWN = len(METHODS)
ENCRYPTED, DESCRIBED, STRONG, UTF8 = 0x0001, 0x0008, 0x0040, 0x0800
LINK, KIND = 0xA000, 0xF000  # of the upper half of the outer attributes, on Unix
SAMPLES = 6  # entries that a password must open, as far as there are as many
SMALL = 1 << 20
MOST_DEFLATED = 1040  # no deflate stream holds more times its own size


def knows(source: Source) -> bool:
    """An end record whose comment ends with the file, and the directory that it tells of."""
    try:
        end = zd.read_end(source)
    except FormatError:
        return source.peek(0, 4) == zd.LOCAL and zd.find_end(source) is not None
    return end.count == 0 or source.peek(end.start, 4) == zd.CENTRAL


def refuse_damaged(source: Source) -> None:
    """FormatError for a file that begins as a ZIP archive and has no directory."""
    if source.peek(0, 4) == zd.LOCAL:
        raise FormatError(
            source.name, "a ZIP archive without its directory, which stands at the end", offset=source.size, hint=FRESH
        )


def opened(source: Source, keys: KeyRing) -> Zip:
    return Zip(source, keys)


class Zip(OpenFormatArchive):
    """A ZIP archive. An entry starts at its local header."""

    title = TITLE
    takes_blank, blank_codec = True, "deflate"

    def __init__(
        self, source: Source, keys: KeyRing, end: zd.End | None = None, directory: zd.Directory | None = None
    ) -> None:
        """`end` and `directory` are those of an archive that has lost its own."""
        super().__init__()
        self.source, self.keys = source, keys
        self.end = end or zd.read_end(source)
        self.directory = directory or zd.read_directory(source, self.end)
        heads = self.directory.heads
        self.flags, self.crc = heads["flags"], heads["crc"]
        self.method = heads["method"].astype(np.int64)
        self._locks: dict[int, locks.Lock] = {}
        self._read_locks()
        numbers = np.full(1 << 16, UNKNOWN, np.int64)
        numbers[list(METHODS)] = range(len(METHODS))
        kind = np.zeros(len(heads), np.int64)
        for row, lock in self._locks.items():
            kind[row] = lock.kind
        codecs = [name for _ in range(3) for name in (*METHODS.values(), "?")]
        of = self.directory
        self.entries = Entries(
            of.names,
            of.start,
            of.stored,
            of.size,
            numbers[self.method] + kind * (UNKNOWN + 1),
            codecs,
            folders=self._folders(),
        )
        self._secret: bytes | None = None
        self._lock = threading.RLock()

    def _read_locks(self) -> None:
        for row in np.flatnonzero(self.flags & ENCRYPTED).tolist():
            if self.method[row] != 99:
                self._locks[row] = locks.Lock(locks.CLASSIC)
                continue
            body = next((body for id, body in zd.extras(self.directory.extra(row)) if id == zd.AES), b"")
            if len(body) != 7 or body[4] not in locks.STRENGTHS or int.from_bytes(body[:2], "little") not in (1, 2):
                raise FormatError(
                    self.source.name,
                    f"the AES form of {body.hex(' ') or 'nothing'}",
                    field=f"directory[{row}].extra",
                    offset=self.end.start + int(self.directory.at[row]),
                    hint="a fresh copy of the file: it may be damaged",
                )
            self._locks[row] = locks.Lock(locks.AE, body[4], body[0])
            self.method[row] = int.from_bytes(body[5:7], "little")

    def _folders(self) -> Array | None:
        of = self.directory
        if not len(of.names):
            return None
        flat = np.frombuffer(of.data, np.uint8)
        last = np.where(of.names.lengths > 0, of.names.starts + of.names.lengths - 1, 0)
        found = (of.names.lengths > 0) & np.isin(flat[last], (0x2F, 0x5C)) & (of.size == 0)
        return found if found.any() else None

    @property
    def codec_labels(self) -> list[str]:
        bare = [name.replace("lzma_headed", "lzma") for name in (*METHODS.values(), "?")]
        locked = [[name if name != "none" else "" for name in bare]] * 2
        return [
            *bare,
            *(f"password, {n}".rstrip(", ") for n in locked[0]),
            *(f"aes, {n}".rstrip(", ") for n in locked[1]),
        ]

    @functools.cached_property
    def paths(self) -> list[str]:
        """Names in UTF-8, or in the code page of old (437) where they are not."""
        texts = self.directory.names
        names = texts.all()
        if not "".join(names).isascii():
            names = [self._decoded_name(raw) for raw in texts.raws()]
        if "\\" in "".join(names):
            names = [clean(name) for name in names]
        for row in self.folders:
            names[row] = names[row].rstrip("/") + "/"
        return names

    def _decoded_name(self, raw: bytes) -> str:
        try:
            return raw.decode()
        except UnicodeDecodeError:
            return raw.decode("cp437")

    def encode_name(self, name: str) -> bytes:
        return name.encode("utf-8", "surrogateescape")

    # what is refused

    @functools.cached_property
    def refusals(self) -> dict[int, str]:
        """Entries that lie, or would be a trap: row and reason."""
        of, found = self.directory, dict[int, str]()
        codec = self.entries.codec % (UNKNOWN + 1)
        least = np.array([lock.head + lock.tail for lock in self._locks.values()], np.int64)
        overhead = np.zeros(len(of.start), np.int64)
        overhead[list(self._locks)] = least
        held = of.stored - overhead
        bounds = of.start + 30 + of.names.lengths + of.stored
        reasons = (
            (bounds > self.end.start, "it reaches into the directory or past the end of the file"),
            (held < 0, "it is stored in fewer bytes than its password check takes"),
            (
                (codec == 0) & (held != of.size),
                "stored without compression, but its size differs from its stored size",
            ),
            (
                (codec == 1) & (of.size > held * MOST_DEFLATED + 64),
                "its size is larger than a deflate stream of its stored size can decode to",
            ),
            ((self.flags & STRONG) != 0, "it is encrypted by a method without a public description"),
        )
        for wrong, reason in reasons:
            found.update((row, reason) for row in np.flatnonzero(wrong).tolist() if row not in found)
        self._add_overlaps(bounds, found)
        return found

    @functools.cached_property
    def links(self) -> frozenset[int]:
        """Entries that are symbolic links."""
        heads = self.directory.heads
        found = ((heads["made"] >> 8) == 3) & ((heads["outer"] >> 16) & KIND == LINK)
        return frozenset(np.flatnonzero(found).tolist())

    def _add_overlaps(self, bounds: Array, found: dict[int, str]) -> None:
        start, sound = self.directory.start, np.setdiff1d(np.arange(len(bounds)), list(found))
        order = sound[np.lexsort((bounds[sound], start[sound]))]
        first, last = start[order], bounds[order]
        reach = np.maximum.accumulate(last)
        behind = np.flatnonzero(first[1:] < reach[:-1]) + 1
        for place in behind.tolist():
            row = int(order[place])
            before = int(order[int(np.searchsorted(reach, first[place], "right"))])
            found.setdefault(row, f"its bytes overlap those of {shown(self.names[before])}")
            found.setdefault(before, f"its bytes overlap those of {shown(self.names[row])}")

    def refusal(self, row: int) -> str:
        return self.refusals.get(row, "") or ("it is a link, which may lead anywhere" if row in self.links else "")

    # content

    def local(self, row: int) -> tuple[int, bytes]:
        """Where an entry's stored bytes start, and its local header; FormatError when it is not the entry's."""
        if row in self.refusals:
            raise FormatError(
                self.source.name, f"{shown(self.names[row])}: {self.refusals[row]}", offset=int(self.entries.start[row])
            )
        start = int(self.entries.start[row])
        head = self.source.read(start, 30)
        name, extra = int.from_bytes(head[26:28], "little"), int.from_bytes(head[28:30], "little")
        if head[:4] != zd.LOCAL:
            raise FormatError(
                self.source.name,
                f"{shown(self.names[row])}: {head[:4]!r}, expected {zd.LOCAL!r}",
                offset=start,
                hint="a fresh copy of the file: this entry is damaged",
            )
        rest = self.source.read(start + 30, name + extra)
        if rest[:name] != self.entries.names.raw(row) or head[8:10] != self.directory.heads["method"][row].tobytes():
            raise FormatError(
                self.source.name,
                f"{shown(self.names[row])}: its local header is that of another entry",
                offset=start,
                hint="a fresh copy of the file: it was tampered with, or is damaged",
            )
        begins = start + 30 + name + extra
        if begins + int(self.entries.stored[row]) > self.end.start:
            raise FormatError(
                self.source.name, f"{shown(self.names[row])}: it reaches into the directory", offset=start
            )
        return begins, head + rest

    def place(self, row: int) -> tuple[int, int]:
        begins, stored = self.local(row)[0], int(self.entries.stored[row])
        lock = self._locks.get(row)
        return (begins, stored) if lock is None else (begins + lock.head, stored - lock.head - lock.tail)

    def compression(self, row: int) -> Compression:
        if self.codec(row) == "?":
            raise FormatError(
                self.source.name,
                f"{shown(self.names[row])}: method {self.method[row]} of compression is not known",
                offset=self.end.start + int(self.directory.at[row]),
                field=f"directory[{row}].method",
            )
        return COMPRESS.get(self.codec(row))

    def checks(self, row: int) -> list[Check]:
        lock, found = self._locks.get(row), list[Check]()
        if lock is None or lock.kind == locks.CLASSIC or lock.version == 1:
            found.append(CrcCheck(self, row, int(self.crc[row])))
        if lock is not None and lock.kind == locks.AE:
            found.append(_MacCheck(self, row))
        return found

    def ciphers(self, row: int) -> Sequence[Cipher]:
        lock = self._locks.get(row)
        return () if lock is None else (locks.opener(lock, self._head(row), self.secret_of(row))[0],)

    # passwords

    def _head(self, row: int) -> bytes:
        return self.source.read(self.local(row)[0], self._locks[row].head)

    def secret_of(self, row: int) -> bytes:
        """The password of an entry: the archive's, or its own; LockedError when no key is right."""
        with self._lock:
            if self._secret is None:
                self._secret = self._find_secret(row)
            if self._suits(row, self._secret):
                return self._secret
            return self.keys.right(
                f"{shown(self.names[row])} in {self.source.name}", lambda secret: self._suits(row, secret)
            ).secret

    def _find_secret(self, row: int) -> bytes:
        """A password that opens several entries, or at least this one."""
        sound = [lock for lock in self._locks if lock not in self.refusals and self.entries.size[lock]]
        samples = [row, *(number for number in sound[:: max(1, len(sound) // SAMPLES)] if number != row)][:SAMPLES]
        small = min(
            (number for number in sound if self.entries.size[number] <= SMALL),
            key=lambda one: int(self.entries.size[one]),
            default=row,
        )
        try:
            return self.keys.right(
                self.source.name,
                lambda secret: (
                    all(self._suits(sample, secret) for sample in samples) and self._proved(small, secret, len(samples))
                ),
            ).secret
        except LockedError:
            if len(samples) == 1:
                raise
            return self.keys.right(self.source.name, lambda secret: self._suits(row, secret)).secret

    def _suits(self, row: int, secret: bytes) -> bool:
        return locks.suits(self._locks[row], self._head(row), self._check_byte(row), secret)

    def _check_byte(self, row: int) -> int:
        """What the last byte of the traditional head must be: of the CRC, or of the time when that was not yet
        known."""
        if self.flags[row] & DESCRIBED:
            return int(self.directory.heads["time"][row]) >> 8 & 255
        return int(self.crc[row]) >> 24

    def _proved(self, row: int, secret: bytes, samples: int) -> bool:
        """Whether a password that one byte speaks for also gives sound content: one in 256 wrong ones passes that
        byte."""
        if samples > 2 or self._locks[row].kind != locks.CLASSIC:
            return True
        before, self._secret = self._secret, secret
        try:
            self.content(row)
        except FormatError:
            return False
        finally:
            self._secret = before
        return True

    def lock(self) -> tuple[bool, str]:
        locked = [row for row in self._locks if row not in self.refusals]
        if not locked:
            return bool(self._locks), ""
        try:
            with self._lock:
                row = next((number for number in locked if self.entries.size[number]), locked[0])
                found = self.keys.silent().right(self.source.name, lambda secret: self._suits(row, secret))
        except (LockedError, FormatError):
            return True, ""
        return True, found.key.name

    # writing

    def plan(self, edit: Edit, each: bool = False, folder: Path | None = None, pinned: bool = False) -> Plan:
        from volvex.archive.formats._zip_writing import Writer  # not needed for looking

        return Writer(self, self._locks, folder, pinned).plan(edit, each)

    def reopened(self, source: Source, beside: Beside | None = None) -> Zip:
        return Zip(source, self.keys)

    def columns(self) -> Iterator[tuple[str, Array]]:
        yield "flags", self.flags

    def covering(self, at: int) -> Stretch:
        if at >= self.end.start:
            return Stretch(at, 0, "field", "the directory or the end records")
        row = int(np.argmax(np.where(self.entries.start <= at, self.entries.start, -1)))
        return Stretch(at, 0, "content", shown(self.names[row]))


class _MacCheck:
    """The HMAC behind an entry in the AES form."""

    stored = True

    def __init__(self, archive: Zip, row: int) -> None:
        self._archive, self._row = archive, row
        lock = archive._locks[row]
        self._total = locks.opener(lock, archive._head(row), archive.secret_of(row))[1]

    def update(self, data: bytes) -> None:
        self._total.update(data)

    def finish(self) -> None:
        archive, row = self._archive, self._row
        start, stored = archive.place(row)
        if self._total.digest()[: locks.MAC] != archive.source.read(start + stored, locks.MAC):
            raise FormatError(
                archive.source.name,
                f"{shown(archive.names[row])}: its authentication code is wrong",
                offset=start,
                hint="a fresh copy of the file: this entry is damaged, or was tampered with",
            )
