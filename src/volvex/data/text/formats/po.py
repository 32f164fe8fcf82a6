"""Message catalogues as translators edit them (GNU gettext, PO): a message is a record; comments and line breaks stay.

A record's id is the text to be translated, behind its context and a `|` where it has one. Its fields: `text`, or
`text[0]`, `text[1]` ... where there are plural forms; `id`, `context` and `plural` are told, and not set.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TypeVar

from volvex.data.budget import Budget
from volvex.data.model.sheet import Change, Sheet
from volvex.data.text.document import UTF8, Encoding, Offsets, Record, Splice, TextData, sheets_of, utf8
from volvex.errors import FormatError, NotFoundError, UnfitError, UsageError

PRIORITY = 10
T = TypeVar("T")
SHEET = "messages"
_BEGINS = re.compile(rb"^msgid[ \t]+\"", re.M)
_STATEMENT = re.compile(
    r'^[ \t]*(msgctxt|msgid_plural|msgid|msgstr(?:\[\d+\])?)[ \t]+((?:"(?:[^"\\\n]|\\.)*"[ \t]*(?:\r?\n[ \t]*(?="))?)+)',  # noqa: E501
    re.M,
)
_PART = re.compile(r'"((?:[^"\\\n]|\\.)*)"')
_ESCAPE = re.compile(r"\\(.)")
_ESCAPES = {"n": "\n", "t": "\t", "r": "\r", "a": "\a", "b": "\b", "f": "\f", "v": "\v"}


def knows(data: bytes, kind: str, name: str) -> bool:
    """Whether this is a catalogue: a `msgid` and a `msgstr` at the beginnings of lines."""
    head = bytes(data[: 1 << 16])
    return kind == "text" and _BEGINS.search(head) is not None and b"\nmsgstr" in head


def open(data: bytes, file: str, encoding: Encoding = UTF8) -> PoData:
    """The document."""
    return PoData(data, file, encoding)


@dataclass
class _Message:
    """A message while it is read: its parts, and where the quoted texts stand."""

    texts: dict[str, str] = field(default_factory=dict)
    spans: dict[str, tuple[int, int]] = field(default_factory=dict)


class PoData(TextData):
    """A message catalogue."""

    form = "po"

    def __init__(self, data: bytes, file: str, encoding: Encoding = UTF8) -> None:
        super().__init__(data, file, encoding)
        self.text = utf8(self.data, file)
        self._messages: dict[str, _Message] = {}
        records = []
        budget = Budget(file)
        for message in self._read():
            budget.spend()
            name = message.texts.get("msgid", "")
            context = message.texts.get("msgctxt")
            row_id = name if context is None else f"{context}|{name}"
            cells = {"id": name, **({"context": context} if context is not None else {})}
            cells |= {"plural": message.texts["msgid_plural"]} if "msgid_plural" in message.texts else {}
            cells |= {_field(what): text for what, text in message.texts.items() if what.startswith("msgstr")}
            records.append(Record(SHEET, row_id or "(head)", row_id or "(head)", row_id, cells))
            self._messages.setdefault(row_id or "(head)", message)
        self._sheets = sheets_of(records)

    @property
    def sheets(self) -> list[Sheet]:
        return self._sheets

    def _read(self) -> Iterator[_Message]:
        message = _Message()
        for match in _STATEMENT.finditer(self.text):
            what = match[1]
            if what in message.texts or (what in ("msgctxt", "msgid") and "msgid" in message.texts):
                yield message
                message = _Message()
            parts = list(_PART.finditer(self.text, match.start(2), match.end(2)))
            message.texts[what] = "".join(_unescaped(part[1]) for part in parts)
            message.spans[what] = (parts[0].start(), parts[-1].end())
        if message.texts:
            yield message

    def at(self, path: str) -> tuple[str, str, str]:
        if path in self._messages:
            return SHEET, path, ""
        raise NotFoundError(f"{self.file}: there is no {path}", "--row with the text that is translated")

    def splices(self, changes: Sequence[Change]) -> list[Splice]:
        offsets = Offsets(self.text)
        return [offsets.splice(*self._edit(change)) for change in changes]

    def _edit(self, change: Change) -> tuple[int, int, str]:
        message = message_of(self._messages, change, self.file)
        text = next(
            (what for what in message.spans if what.startswith("msgstr") and _field(what) == change.field), None
        )
        if text is None:
            raise UnfitError(
                self.file,
                f"row {change.id}: {change.field} is not set: it is what the program asks for",
                hint="text=...",
            )
        start, end = message.spans[text]
        newline = "\r\n" if "\r\n" in self.text else "\n"
        return start, end, _quoted(change.after or "", newline)


def message_of(messages: Mapping[str, T], change: Change, file: str) -> T:
    """The message that a change sets; UsageError for one that adds or removes, NotFoundError when there is none."""
    if change.what != "set":
        raise UsageError(f"{file}: messages are added and removed by the program they are from", "setting their texts")
    if change.id not in messages:
        raise NotFoundError(f"{file}: there is no row {change.id}")
    return messages[change.id]


def _field(what: str) -> str:
    return what.replace("msgstr", "text")


def _unescaped(text: str) -> str:
    return _ESCAPE.sub(lambda match: _ESCAPES.get(match[1], match[1]), text)


def _quoted(text: str, newline: str) -> str:
    """A text as a catalogue stores it: each of its lines on one of its own."""
    lines = text.splitlines(keepends=True) if "\n" in text else [text]
    if any(ord(text) < 32 and text not in "\n\t\r" for text in text):
        raise FormatError("the text", "a control character, which no catalogue stores", hint="leaving it out")
    told = ['"' + "".join(_escaped(text) for text in line) + '"' for line in lines] or ['""']
    return newline.join(['""', *told]) if len(told) > 1 else told[0]


def _escaped(character: str) -> str:
    return {"\n": "\\n", "\t": "\\t", "\r": "\\r", '"': '\\"', "\\": "\\\\"}.get(character, character)
