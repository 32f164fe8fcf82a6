"""Message catalogues in binary (GNU gettext, MO): read and edited as those in text are.

A record is a message; its id is the text to be translated, behind its context and a `|`. Source: GNU gettext manual,
"The Format of GNU MO Files". New texts are written where the old ones lay, or behind the end where other things lie
between these.
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from volvex.data.budget import Budget
from volvex.data.model.sheet import Array, Change, Document, Sheet
from volvex.data.text.document import Record, sheets_of
from volvex.data.text.formats.po import SHEET, message_of
from volvex.errors import FormatError, UnfitError

MARKS = {b"\xde\x12\x04\x95": "<", b"\x95\x04\x12\xde": ">"}
NO_CHARSETS = ("", "idna", "punycode", "undefined", "unicode_escape", "raw_unicode_escape")  # no catalogue is in these
HEAD = "(head)"  # the id of the message that describes the catalogue
_CHARSET = re.compile(rb"charset=([A-Za-z0-9_.:-]+)")


@dataclass
class _Message:
    """A translated text: its number, its forms, and how its fields are called."""

    number: int
    forms: list[str]
    fields: list[str]


class Catalogue(Document):
    """A catalogue. Its texts are set; messages are added and removed by the program they are from."""

    form = "mo"

    def __init__(self, data: bytes, file: str) -> None:
        """FormatError when the tables or texts lie outside of the file, or are not in its encoding."""
        self.file, self.data = file, data
        self.order = MARKS[data[:4]]
        head = self._numbers(4, 4)
        self.count, self.originals, self.texts = (int(one) for one in head[1:])
        if int(head[0]) >> 16 > 1:
            raise FormatError(file, f"a revision {int(head[0]) >> 16}, expected 0 or 1", offset=4)
        ids, told = self._spans(self.originals), self._spans(self.texts)
        self.encoding = self._charset(ids, told)
        self._messages: dict[str, _Message] = {}
        self._sheets = sheets_of(self._records(ids, told))

    @property
    def sheets(self) -> list[Sheet]:
        return self._sheets

    def reread(self, data: bytes) -> Document:
        if data[:4] not in MARKS:
            raise FormatError(self.file, f"begins with {data[:4].hex(' ')}, expected de 12 04 95", offset=0)
        return Catalogue(data, self.file)

    def written(self, changes: Sequence[Change]) -> bytes:
        new: dict[str, list[str]] = {}
        for change in changes:
            message = self._message(change)
            forms = new.setdefault(change.id, list(message.forms))
            forms[message.fields.index(change.field)] = change.after or ""
        stored = {self._messages[row_id].number: self._stored(forms, row_id) for row_id, forms in new.items()}
        return self._placed(stored) if stored else self.data

    def _message(self, change: Change) -> _Message:
        message = message_of(self._messages, change, self.file)
        if change.field not in message.fields:
            what = f"row {change.id}: {change.field} is not set: it is what the program asks for"
            raise UnfitError(self.file, what, hint=f"{message.fields[0]}=...")
        return message

    def _stored(self, forms: Sequence[str], row_id: str) -> bytes:
        text = "\0".join(forms)
        if text.count("\0") >= len(forms):
            raise UnfitError(self.file, f"row {row_id}: a zero character ends a text", hint="leaving it out")
        try:
            return text.encode(self.encoding)
        except UnicodeEncodeError as error:
            what = f"row {row_id}: {text[error.start]!r} cannot be written in {self.encoding}"
            raise UnfitError(self.file, what, hint="another character") from error

    def _placed(self, new: dict[int, bytes]) -> bytes:
        """The file with other texts: from the first one that changes on all are moved, where nothing else lies between
        them."""
        spans = self._spans(self.texts).copy()
        order = np.argsort(spans[:, 1], kind="stable")
        ends = spans[order, 1] + spans[order, 0] + 1
        packed = bool((spans[order[1:], 1] == ends[:-1]).all()) and int(ends[-1]) == len(self.data)
        moved = order[min(int(np.flatnonzero(order == number)[0]) for number in new) :] if packed else sorted(new)
        made = bytearray(self.data[: int(spans[moved[0], 1])] if packed else self.data)
        for number in (int(one) for one in moved):
            size, start = (int(span) for span in spans[number])
            text = new.get(number, self.data[start : start + size])
            spans[number] = len(text), len(made)
            made += text + b"\0"
        if len(made) >= 1 << 32:
            raise UnfitError(self.file, "texts of 4 GB", hint="shorter texts")
        made[self.texts : self.texts + 8 * self.count] = spans.astype(f"{self.order}u4").tobytes()
        return bytes(made)

    # reading

    def _numbers(self, start: int, count: int) -> Array:
        if start + 4 * count > len(self.data):
            what = f"{count} numbers lie here, the file ends at {len(self.data):#x}"
            raise FormatError(self.file, what, offset=start, hint="a fresh copy of the file")
        return np.frombuffer(self.data, f"{self.order}u4", count, start)

    def _spans(self, start: int) -> Array:
        """The size and the start of each text of a table."""
        spans = self._numbers(start, 2 * self.count).astype(np.int64).reshape(-1, 2)
        wrong = np.flatnonzero(spans.sum(axis=1) + 1 > len(self.data))
        if len(wrong):
            size, at = spans[wrong[0]].tolist()
            what = f"text {wrong[0]}: {size:,} bytes from {at:#x}, the file ends at {len(self.data):#x}"
            raise FormatError(self.file, what, offset=start + 8 * int(wrong[0]), hint="a fresh copy of the file")
        return spans

    def _charset(self, ids: Array, told: Array) -> str:
        """The encoding that the message without a text of its own names."""
        heads = np.flatnonzero(ids[:, 0] == 0)
        if len(heads):
            size, at = told[heads[0]].tolist()
            found = _CHARSET.search(self.data[at : at + size])
            if found is not None:
                try:
                    name = codecs.lookup(found[1].decode()).name
                    "".encode(name)  # refuses what is no encoding of texts
                except (LookupError, UnicodeError):
                    name = ""
                return "utf-8" if name in NO_CHARSETS else name
        return "utf-8"

    def _records(self, ids: Array, told: Array) -> list[Record]:
        records, budget = [], Budget(self.file)
        for number in range(self.count):
            budget.spend(1 + int(ids[number, 0] + told[number, 0] >> 6))
            context, mark, name = self._text(ids[number]).rpartition("\x04")
            name, several, plural = name.partition("\0")
            row_id = (f"{context}|{name}" if mark else name) or HEAD
            forms = self._text(told[number]).split("\0")
            fields = [f"text[{at}]" for at in range(len(forms))] if several else ["text"]
            forms = forms if several else ["\0".join(forms)]
            cells = {"id": name} | ({"context": context} if mark else {}) | ({"plural": plural} if several else {})
            records.append(Record(SHEET, row_id, row_id, row_id, cells | dict(zip(fields, forms, strict=True))))
            self._messages.setdefault(row_id, _Message(number, forms, fields))
        return records

    def _text(self, span: Array) -> str:
        size, at = span.tolist()
        try:
            return self.data[at : at + size].decode(self.encoding)
        except UnicodeDecodeError as error:
            what = f"this is not {self.encoding}: {error.reason}"
            raise FormatError(self.file, what, offset=at + error.start, hint="`volvex swap`") from error
