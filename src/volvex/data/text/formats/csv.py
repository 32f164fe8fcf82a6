"""Tables as text: values with commas, semicolons or tabs between them (RFC 4180), the first line being their names.

The key is the first column, when no two records have the same there, or one called id, key or name, or all columns of
words together. Quotes, line ends and blanks stay as they are.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence

import numpy as np

from volvex.data.budget import CELLS, Budget
from volvex.data.model.sheet import NUMBERED, Array, Change, Column, Rule, Sheet, distinct
from volvex.data.text.document import UTF8, Encoding, Offsets, Splice, TextData, utf8
from volvex.errors import FormatError, NotFoundError

PRIORITY = 50
SHEET = "rows"
IDS = ("id", "key", "name")
SEPARATORS = ("\t", ";", ",", "|")
LINES = 20  # looked at to see whether it is a table

Span = tuple[int, int]
_NUMBER = re.compile(r"-?[0-9]*[.,]?[0-9]*")


def knows(data: bytes, kind: str, name: str) -> bool:
    """Whether this is a table: its first lines have the same number of values, more than one."""
    if kind not in ("text", "json"):
        return False
    head = bytes(data[: 1 << 14]).decode("utf-8", "replace").lstrip("\ufeff")
    lines = [line for line in head.splitlines()[:LINES] if line]
    if len(data) > 1 << 14 and len(lines) > 1:
        lines = lines[:-1]
    separator = separator_of(lines[0]) if lines else ""
    if not separator or kind == "json" or len(lines) < 2:
        return False
    named = name.lower().endswith((".csv", ".tsv", ".tab"))
    counts = {line.count(separator) for line in lines if '"' not in line}
    return named or (len(counts) == 1 and separator != ",")


def separator_of(line: str) -> str:
    """What stands between the values of a first line; nothing when it has but one."""
    plain = re.sub(r'"(?:[^"]|"")*"', "", line)
    counts = {separator: plain.count(separator) for separator in SEPARATORS}
    best = max(SEPARATORS, key=lambda one: counts[one])
    return best if counts[best] else ""


def open(data: bytes, file: str, encoding: Encoding = UTF8) -> CsvData:
    """The document."""
    return CsvData(data, file, encoding)


class CsvData(TextData):
    """A table as text."""

    form = "csv"

    def __init__(self, data: bytes, file: str, encoding: Encoding = UTF8) -> None:
        super().__init__(data, file, encoding)
        self.text = utf8(self.data, file)
        self.separator = separator_of(self.text.partition("\n")[0]) or ","
        lines = list(self._lines())
        self.ends = [line[-1][1] for line in lines]
        self.names = (
            distinct([self._value(span) or f"column {at}" for at, span in enumerate(lines[0], 1)]) if lines else []
        )
        self.spans = lines[1:]
        wrong = next((at for at, line in enumerate(self.spans) if len(line) != len(self.names)), None)
        if wrong is not None:
            raise FormatError(
                file,
                f"record {wrong + 1} has {len(self.spans[wrong])} values, the first line {len(self.names)}",
                hint="quotes around a value that holds the separator",
            )
        self._sheets = [self._sheet()]

    @property
    def sheets(self) -> list[Sheet]:
        return self._sheets

    def _lines(self) -> Iterator[list[Span]]:
        """Where the values of each line stand, quotes with them; empty lines are no records."""
        sep = re.escape(self.separator)
        form = re.compile(rf'("(?:[^"]|"")*+"[^{sep}\r\n]*+|[^{sep}\r\n]*)({sep}|\r\n|\n|\r|\Z)')
        line: list[Span] = []
        budget = Budget(self.file, "cells", CELLS // 4)
        at, end = 0, len(self.text)
        while at < end or line:
            match = form.match(self.text, at)
            assert match is not None  # it matches anything
            line.append(match.span(1))
            budget.spend()
            at = match.end()
            if match[2] != self.separator:
                if len(line) > 1 or line[0][0] < line[0][1]:
                    yield line
                line = []

    def _value(self, span: Span) -> str:
        raw = self.text[span[0] : span[1]]
        return raw[1:-1].replace('""', '"') if len(raw) > 1 and raw[0] == raw[-1] == '"' else raw

    def _sheet(self) -> Sheet:
        columns = [Column(name, Rule(), self._loader(at)) for at, name in enumerate(self.names)]
        sheet = Sheet(SHEET, columns, len(self.spans))
        cells = {name: column.values.tolist() for name, column in sheet.columns.items()}
        words = [name for name in self.names if not all(_NUMBER.fullmatch(cell) for cell in cells[name])]
        tries = [self.names[:1], *([name] for name in self.names if name.casefold() in IDS), words]
        for texts in tries:
            told = list(zip(*(cells[name] for name in texts), strict=True))
            if told and len(set(told)) == len(told) and all(map(all, told)):
                sheet.id = tuple(texts)
                break
        return sheet

    def _loader(self, at: int) -> Callable[[], Array]:
        def load() -> Array:
            return np.array([*(self._value(line[at]) for line in self.spans), None], object)[:-1]

        return load

    def at(self, path: str) -> tuple[str, str, str]:
        sheet = self._sheets[0]
        if path.isdigit() and int(path) < len(sheet):
            return SHEET, sheet.ids[int(path)], ""
        raise NotFoundError(f"{self.file}: there is no {path}", f"the number of a record: 0 to {len(sheet) - 1}")

    def splices(self, changes: Sequence[Change]) -> list[Splice]:
        found = []
        self._offsets = Offsets(self.text)
        places = {name: at for at, name in reversed(list(enumerate(self.names)))}
        for change in changes:
            if change.what == "add":
                found.append(self._added(change))
                continue
            row = self._row(change.id)
            if change.what == "remove":
                stop = self.text.find("\n", self.spans[row][-1][1]) + 1 or len(self.text)
                found.append(self._bytes(self.spans[row][0][0], stop, ""))
                continue
            self._sheets[0].column(change.field, self.file)
            span = self.spans[row][places[change.field]]
            found.append(self._bytes(*span, self._quoted(change.after or "", self.text[span[0] : span[0] + 1] == '"')))
        return found

    def _row(self, row_id: str) -> int:
        row = self._sheets[0].row(row_id)
        if row is None and row_id.startswith(NUMBERED) and row_id[1:].isdigit() and int(row_id[1:]) < len(self.spans):
            row = int(row_id[1:])
        if row is None:
            raise NotFoundError(f"{self.file}: there is no row {row_id}")
        return row

    def _added(self, change: Change) -> Splice:
        row = self._row(change.like) if change.like else len(self.spans) - 1
        like = self._sheets[0].record(row) if row >= 0 and change.like else {}
        record = like | dict(change.fields)
        line = self.separator.join(self._quoted(record.get(name, ""), False) for name in self.names)
        end = self.spans[row][-1][1] if row >= 0 else self.ends[0]
        newline = "\r\n" if "\r\n" in self.text else "\n"
        return self._bytes(end, end, newline + line)

    def _quoted(self, value: str, quoted: bool) -> str:
        if quoted or any(text in value for text in (self.separator, '"', "\n", "\r")):
            escaped = value.replace('"', '""')
            return f'"{escaped}"'
        return value

    def _bytes(self, start: int, end: int, new: str) -> Splice:
        return self._offsets.splice(start, end, new)
