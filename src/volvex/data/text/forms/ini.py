"""Key files: `key = value` below `[section]`, comments behind `;` or `#`. A section is a record; line ends and blanks stay."""

from __future__ import annotations

import difflib
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field

from volvex.data.budget import Budget
from volvex.data.model.sheet import NUMBERED, Change, Sheet
from volvex.data.text.document import UTF8, Encoding, Offsets, Record, Splice, TextData, sheets_of, utf8
from volvex.errors import NotFoundError, UnfitError

PRIORITY = 40
SHEET = "sections"
_SECTION = re.compile(r"^[ \t]*\[([^\]\r\n]*)\][^\r\n]*", re.M)
_BARE = re.compile(r"[\w.\-/]{1,80}[ \t]*=(?!=)")  # a pair that is taken for one though no section stands before it
_PAIR = re.compile(r"^[ \t]*+([^\s=:;#\[][^=:\r\n]*+)[=:]([^\r\n]*+)(?=\r?$)", re.M)


def knows(data: bytes, kind: str, name: str) -> bool:
    """Whether this is a key file: by its name, by beginning with a section, or by having `key = value` in every line."""
    if kind != "text":
        return False
    head = bytes(data[: 1 << 14]).decode("utf-8", "replace").lstrip("\ufeff")
    lines = [line for splitline in head.splitlines()[:40] if (line := splitline.strip()) and line[0] not in ";#"]
    shaped = bool(lines) and all(_SECTION.match(line) or _PAIR.match(line) for line in lines[:-1])
    named = name.lower().endswith((".ini", ".cfg", ".conf", ".properties"))
    return shaped and (lines[0].startswith("[") or named or (len(lines) > 1 and all(map(_BARE.match, lines))))


def open(data: bytes, file: str, encoding: Encoding = UTF8) -> IniData:
    """The document."""
    return IniData(data, file, encoding)


@dataclass
class _Section:
    """A section: where it begins and ends, and where the values of its keys stand."""

    begin: int
    end: int
    spans: dict[str, tuple[int, int, int]] = field(default_factory=dict)  # of the value; and where its line begins


class IniData(TextData):
    """A key file."""

    form = "ini"

    def __init__(self, data: bytes, file: str, encoding: Encoding = UTF8) -> None:
        super().__init__(data, file, encoding)
        self.text = utf8(self.data, file)
        self._sections: dict[str, _Section] = {}
        self._sheets = sheets_of(self._read())

    @property
    def sheets(self) -> list[Sheet]:
        return self._sheets

    def _read(self) -> list[Record]:
        heads = [
            (0, 0, ""),
            *((match.start(), match.end(), match[1].strip()) for match in _SECTION.finditer(self.text)),
        ]
        ends = [*(begin for begin, _, _ in heads[1:]), len(self.text)]
        records: list[Record] = []
        names: Counter[str] = Counter()
        budget = Budget(self.file)
        for (begin, start, name), end in zip(heads, ends, strict=True):
            record, section = Record(SHEET, name, name, name), _Section(begin, end)
            keys: Counter[str] = Counter()
            for pair in _PAIR.finditer(self.text, start, end):
                budget.spend()
                own, value = pair[1].rstrip(" \t"), pair[2].strip(" \t")
                keys[own] += 1
                key = own if keys[own] == 1 and own not in section.spans else f"{own}[{keys[own]}]"
                while key in section.spans:
                    keys[own] += 1
                    key = f"{own}[{keys[own]}]"
                first = pair.start(2) + len(pair[2]) - len(pair[2].lstrip(" \t"))
                section.spans[key] = (first, first + len(value), pair.start())
                record.cells[key] = value
            if name or record.cells:
                names[name] += 1
                unique = name if names[name] == 1 else f"{name}{NUMBERED}{names[name]}"
                while unique in self._sections:
                    names[name] += 1
                    unique = f"{name}{NUMBERED}{names[name]}"
                record.key = unique
                self._sections[unique] = section
                records.append(record)
        return records

    def at(self, place: str) -> tuple[str, str, str]:
        if place.strip("/[]") in self._sections:
            return SHEET, place.strip("/[]"), ""
        raise NotFoundError(f"{self.file}: there is no {place}", f"one of {', '.join(self._sections)}")

    def splices(self, changes: Sequence[Change]) -> list[Splice]:
        offsets = Offsets(self.text)
        return [offsets.splice(*edit) for change in changes for edit in self._edits(change)]

    def _edits(self, change: Change) -> list[tuple[int, int, str]]:
        if change.what == "add":
            like = self._section(change.like or list(self._sections)[-1])
            newline = "\r\n" if "\r\n" in self.text else "\n"
            lines = [f"[{change.key}]", *(f"{name} = {self._checked(value)}" for name, value in change.fields)]
            before = "" if not self.text or self.text[: like.end].endswith("\n") else newline
            return [(like.end, like.end, before + "".join(line + newline for line in lines))]
        section = self._section(change.key)
        if change.what == "remove":
            return [(section.begin, section.end, "")]
        if change.field in section.spans:
            start, end, line = section.spans[change.field]
            if change.after is None:
                stop = self.text.find("\n", end) + 1 or len(self.text)
                return [(line, stop, "")]
            return [(start, end, self._checked(change.after))]
        if change.before is None and change.after is not None and not re.search(r"[=:\r\n\[]", change.field):
            newline = "\r\n" if "\r\n" in self.text else "\n"
            last = max((end for _, end, _ in section.spans.values()), default=self.text.find("\n", section.begin))
            return [(last, last, f"{newline}{change.field} = {self._checked(change.after)}")]
        near = difflib.get_close_matches(change.field, section.spans, 1)
        raise NotFoundError(
            f"{self.file}: row {change.key} has no field {change.field}; it has {', '.join(section.spans)}",
            f"{near[0]}=..." if near else "",
        )

    def _section(self, name: str) -> _Section:
        if name not in self._sections:
            raise NotFoundError(f"{self.file}: there is no row {name}", f"one of {', '.join(self._sections)}")
        return self._sections[name]

    def _checked(self, value: str) -> str:
        if "\n" in value or "\r" in value or value != value.strip():
            raise UnfitError(
                self.file, f"{value!r} cannot be a value in a key file", hint="one line without blanks around it"
            )
        return value
