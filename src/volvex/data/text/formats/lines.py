"""Plain text: each line is a record, found by its number (from 1), with the field `line`. For replacing text in it."""

from __future__ import annotations

from collections.abc import Sequence

from volvex.data.budget import Budget
from volvex.data.model.sheet import NUMBERED, Change, Sheet
from volvex.data.text.document import UTF8, Encoding, Record, Splice, TextData, sheets_of, utf8
from volvex.errors import NotFoundError, UsageError

PRIORITY = 90
SHEET, FIELD = "lines", "line"


def knows(data: bytes, kind: str, name: str) -> bool:
    """Whether this is text."""
    return kind == "text"


def open(data: bytes, file: str, encoding: Encoding = UTF8) -> LineData:
    """The document."""
    return LineData(data, file, encoding)


class LineData(TextData):
    """A plain text."""

    form = "lines"

    def __init__(self, data: bytes, file: str, encoding: Encoding = UTF8) -> None:
        super().__init__(data, file, encoding)
        self._spans: list[tuple[int, int]] = []
        records = []
        at = 0
        budget = Budget(file, "lines")
        for number, line in enumerate(utf8(self.data, file).splitlines(keepends=True), 1):
            budget.spend()
            text = line.rstrip("\r\n")
            self._spans.append((at, at + len(text.encode())))
            at += len(line.encode())
            row_id = f"{NUMBERED}{number}"
            records.append(Record(SHEET, row_id, row_id, str(number), {FIELD: text}))
        self._sheets = sheets_of(records)

    @property
    def sheets(self) -> list[Sheet]:
        return self._sheets

    def at(self, path: str) -> tuple[str, str, str]:
        if path.isdigit() and 1 <= int(path) <= len(self._spans):
            return SHEET, f"{NUMBERED}{path}", ""
        raise NotFoundError(f"{self.file}: there is no line {path}", f"1 to {len(self._spans)}")

    def splices(self, changes: Sequence[Change]) -> list[Splice]:
        found = []
        for change in changes:
            value = change.after or ""
            if change.what != "set" or "\n" in value or "\r" in value:
                raise UsageError(f"{self.file} is plain text: its lines are changed one by one", "an editor of yours")
            found.append(Splice(*self._spans[int(change.id.lstrip(NUMBERED)) - 1], value.encode()))
        return found
