"""Data in text files: read by its records and fields, and edited so that every other byte stays as it was.

Whatever a file is written in, it is worked on as UTF-8; what was read is kept as it is, and edits are stretches of it
with new bytes in their place.
"""

from __future__ import annotations

import codecs
from abc import abstractmethod
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np

from volvex.data import encodings
from volvex.data.budget import CELLS, Budget
from volvex.data.model.sheet import Array, Change, Column, Document, Rule, Sheet, distinct
from volvex.errors import FormatError, OverlapError, UnfitError

STEP = 1 << 20  # bytes written at once
GUESSED = 1 << 26  # bytes of text from which on its encoding is not guessed
MARKS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF32_LE, "utf-32-le"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)


@dataclass(frozen=True)
class Splice:
    """A stretch of the text, and what comes in its place."""

    start: int
    end: int
    new: bytes


@dataclass
class Record:
    """A record as it was found: of which kind, its id (with those of the records around it), its own, where it stands,
    its cells."""

    sheet: str
    id: str
    own: str = ""
    place: str = ""
    cells: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True)
class Encoding:
    """What is known of a text's encoding beforehand: its name (empty: nothing), and whether it holds also for what is
    sound UTF-8."""

    name: str = ""
    exact: bool = False


UTF8 = Encoding()


class TextData(Document):
    """A text file of data."""

    def __init__(self, data: bytes, file: str, encoding: Encoding = UTF8) -> None:
        self.file = file
        self.raw = data
        self.mark, self.encoding, self.data = decoded(data, file, encoding)

    @property
    def exactly(self) -> Encoding:
        """Its encoding, for another state of the same file."""
        return UTF8 if self.encoding == "utf-8" or self.mark else Encoding(self.encoding, True)

    @abstractmethod
    def splices(self, changes: Sequence[Change]) -> list[Splice]:
        """The stretches of the text that change, in any order."""

    def pieces(self, changes: Sequence[Change]) -> Iterator[bytes]:
        """The file with these changes, in pieces. Records are taken out last: new ones may be like them."""
        gone = [change for change in changes if change.what == "remove"]
        if gone and any(change.what == "add" for change in changes):
            first = b"".join(self._pieces([change for change in changes if change.what != "remove"]))
            yield from type(self)(first, self.file, self.exactly)._pieces(gone)
        else:
            yield from self._pieces(changes)

    def _pieces(self, changes: Sequence[Change]) -> Iterator[bytes]:
        try:
            splices = sorted(self.splices(changes), key=lambda one: (one.start, one.end))
        except UnicodeEncodeError as error:
            raise FormatError(
                self.file, f"{error.object[error.start : error.start + 1]!r} is no character", hint="another value"
            ) from error
        if self.encoding != "utf-8":
            text = b"".join(self._spliced(splices)).decode()
            try:
                yield self.mark + text.encode(self.encoding)
            except UnicodeEncodeError as error:
                raise UnfitError(
                    self.file, f"{text[error.start]!r} cannot be written in {self.encoding}", hint="another character"
                ) from error
            return
        if self.mark:
            yield self.mark
        yield from self._spliced(splices)

    def _spliced(self, splices: Sequence[Splice]) -> Iterator[bytes]:
        at = 0
        for splice in splices:
            if splice.start < at:
                raise OverlapError(self.file, "two changes meet in one place", hint="making one after the other")
            yield from self._copied(at, splice.start)
            yield splice.new
            at = splice.end
        yield from self._copied(at, len(self.data))

    def _copied(self, start: int, end: int) -> Iterator[bytes]:
        for at in range(start, end, STEP):
            yield bytes(self.data[at : min(end, at + STEP)])

    def reread(self, data: bytes) -> Document:
        return type(self)(data, self.file, self.exactly)

    def written(self, changes: Sequence[Change]) -> bytes:
        return b"".join(self.pieces(changes))

    @abstractmethod
    def at(self, path: str) -> tuple[str, str, str]:
        """The sheet and id of the record at a place (or around it), and what fields of the place begin with."""


def decoded(data: bytes, file: str, told: Encoding = UTF8) -> tuple[bytes, str, bytes]:
    """A text's byte order mark, its encoding, and the text as UTF-8; the three together give the same bytes again."""
    head = bytes(data[:200])
    mark, encoding = next(((mark, name) for mark, name in MARKS if head.startswith(mark)), (b"", ""))
    encoding = encoding or _declared(head) or _known(data, told)
    if encoding == "utf-8" and not mark:
        return b"", encoding, data
    body = data[len(mark) :]
    if encoding == "utf-8":
        return mark, encoding, body
    try:
        text = bytes(body).decode(encoding)
        if text.encode(encoding) != body:
            raise FormatError(
                file, f"its {encoding} cannot be written back as it is", hint="an editor of yours, then `volvex swap`"
            )
    except UnicodeDecodeError as error:
        raise FormatError(
            file,
            f"this is not {encoding}: {error.reason}",
            offset=error.start,
            hint="--encoding with the file's encoding",
        ) from error
    return mark, encoding, text.encode()


def _declared(head: bytes) -> str:
    """The encoding that an XML declaration names; empty when none does."""
    if head.startswith(b"<?xml") and b"encoding=" in head.partition(b"?>")[0]:
        name = head.partition(b"encoding=")[2][1:].replace(b"'", b'"').partition(b'"')[0].decode("ascii", "replace")
        try:
            return codecs.lookup(name).name
        except LookupError:
            return ""
    return ""


def _known(data: bytes, encoding: Encoding) -> str:
    """The encoding of text that bears no sign of it."""
    if encoding.exact:
        return encoding.name
    if len(data) > GUESSED or encodings.is_utf8(data):
        return "utf-8"
    return encoding.name or encodings.guessed(data) or "utf-8"


def utf8(data: bytes, file: str) -> str:
    """A whole text; FormatError at the first byte that is none."""
    try:
        return bytes(data).decode()
    except UnicodeDecodeError as error:
        raise FormatError(
            file, f"this is not utf-8: {error.reason}", offset=error.start, hint="--encoding with the file's encoding"
        ) from error


class Offsets:
    """Where the characters of a text stand among its bytes in UTF-8."""

    def __init__(self, text: str) -> None:
        self._sizes: Array | None = None
        if not text.isascii():
            codes = np.frombuffer(text.encode("utf-32-le"), np.uint32)
            sizes = 1 + (codes > 0x7F).astype(np.int64) + (codes > 0x7FF) + (codes > 0xFFFF)
            self._sizes = np.concatenate([np.zeros(1, np.int64), np.cumsum(sizes)])

    def splice(self, start: int, end: int, new: str) -> Splice:
        """A splice of the bytes, from one of the characters."""
        if self._sizes is None:
            return Splice(start, end, new.encode())
        return Splice(int(self._sizes[start]), int(self._sizes[end]), new.encode())


def sheets_of(records: Iterable[Record]) -> list[Sheet]:
    """Records as sheets, a kind each; an id of a record again gets its number behind it."""
    groups: dict[str, list[Record]] = {}
    for record in records:
        groups.setdefault(record.sheet, []).append(record)
    return [_sheet(name, records) for name, records in groups.items()]


def _sheet(name: str, records: Sequence[Record]) -> Sheet:
    fields = dict.fromkeys(field for record in records for field in record.cells)
    budget = Budget(name, "cells, most of them empty", CELLS)
    columns = [Column(field, Rule(), _loader(records, field, budget), _some(records, field)) for field in fields]
    sheet = Sheet(name, columns, len(records))
    sheet.cells = [record.cells for record in records]
    sheet.ids = distinct([record.id for record in records])
    sheet.names = [record.own or record.id for record in records]
    sheet.wanted_ids = [record.id if record.id.endswith(f"/{record.own}") else record.own for record in records]
    return sheet


def _some(records: Sequence[Record], name: str) -> Callable[[Array], Array]:
    """Some cells of a column, without making all of it."""
    return lambda rows: np.array([*(records[row].cells.get(name) for row in rows.tolist()), None], object)[:-1]


def _loader(records: Sequence[Record], name: str, budget: Budget) -> Callable[[], Array]:
    def load() -> Array:
        budget.spend(len(records))
        return np.array([*(record.cells.get(name) for record in records), None], object)[:-1]

    return load
