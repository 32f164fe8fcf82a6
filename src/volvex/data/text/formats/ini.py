"""INI files: `key = value` below `[section]`, comments behind `;` or `#`. A section is a record; line ends and blanks
stay.

Sections of one name (`[lamp]` three times, `[[lamp]]` in TOML) are a sheet of that name; their id is their `id`, `key`
or `name`, or a number.
"""

from __future__ import annotations

import difflib
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from volvex.data.budget import Budget
from volvex.data.model.sheet import NUMBERED, Change, Sheet, distinct
from volvex.data.text.document import MARKS, UTF8, Encoding, Offsets, Record, Splice, TextData, sheets_of, utf8
from volvex.errors import NotFoundError, UnfitError

PRIORITY = 40
SHEET = "sections"
IDS = ("id", "key", "name")  # that identify one of the sections of one name
MANY = 3  # sections of one name that are a table
LOOKED_AT = 200  # lines at the beginning of a file
_COMMENT = re.compile(r";|#|//")
_SECTION = re.compile(r"^[ \t]*\[{1,2}([^\[\]\r\n]*)\][^\r\n]*", re.M)
_BARE = re.compile(r"[\w.\-/]{1,80}[ \t]*=(?!=)")  # a pair that is taken for one though no section stands before it
_PAIR = re.compile(r"^[ \t]*+([^\s=:;#\[][^=:\r\n]*+)[=:]([^\r\n]*+)(?=\r?$)", re.M)


def knows(data: bytes, kind: str, name: str) -> bool:
    """Whether this is an INI file: nearly all lines are sections and pairs, and it is called so, has sections, or has
    pairs alone."""
    if kind != "text":
        return False
    head = bytes(data[: 1 << 14])
    mark = next((encoding for mark, encoding in MARKS if head.startswith(mark)), "utf-8")
    text = head.decode(mark, "replace").lstrip("\ufeff")
    lines = [line for whole in text.splitlines()[:LOOKED_AT] if (line := whole.strip()) and not _COMMENT.match(line)]
    lines = lines[:-1] if len(lines) > 1 and len(data) > len(head) else lines  # the last may be cut
    sections = sum(_SECTION.fullmatch(line) is not None for line in lines)
    pairs = sum(_PAIR.fullmatch(line) is not None for line in lines)
    if not pairs + sections or 10 * (pairs + sections) < 9 * len(lines):
        return False
    named = name.lower().endswith((".ini", ".cfg", ".conf", ".properties", ".toml"))
    bare = sum(_BARE.match(line) is not None for line in lines)
    return named or lines[0].startswith("[") or 0 < sections <= bare or (1 < len(lines) == bare)


def open(data: bytes, file: str, encoding: Encoding = UTF8) -> IniData:
    """The document."""
    return IniData(data, file, encoding)


@dataclass
class _Section:
    """A section: where it begins and ends, and where the values of its keys stand."""

    begin: int
    end: int
    head: str  # its first line
    spans: dict[str, tuple[int, int, int]] = field(default_factory=dict)  # of the value; and where its line begins


class IniData(TextData):
    """An INI file."""

    form = "ini"

    def __init__(self, data: bytes, file: str, encoding: Encoding = UTF8) -> None:
        super().__init__(data, file, encoding)
        self.text = utf8(self.data, file)
        self._sections: dict[tuple[str, str], _Section] = {}
        self._sheets = sheets_of(self._read())

    @property
    def sheets(self) -> list[Sheet]:
        return self._sheets

    def _read(self) -> list[Record]:
        heads = [
            (0, 0, "", ""),
            *((match.start(), match.end(), match[0], match[1].strip()) for match in _SECTION.finditer(self.text)),
        ]
        ends = [*(begin for begin, *_ in heads[1:]), len(self.text)]
        times = Counter(name for *_, name in heads[1:])
        repeated = {name for _, _, head, name in heads[1:] if times[name] >= MANY or head.lstrip().startswith("[[")}
        records: list[Record] = []
        sections: list[_Section] = []
        numbers: Counter[str] = Counter()
        budget = Budget(self.file)
        for (begin, start, head, name), end in zip(heads, ends, strict=True):
            section = _Section(begin, end, head)
            cells = self._cells(section, start, budget)
            if not name and not cells:
                continue
            sheet, row_id = (name, _own_key(cells)) if name in repeated and head else (SHEET, name)
            record = Record(
                sheet, f"{NUMBERED}{numbers[sheet]}" if row_id is None else row_id, row_id or "", name, cells
            )
            numbers[sheet] += 1
            records.append(record)
            sections.append(section)
        ids = distinct([f"{record.sheet}\0{record.id}" for record in records])
        for record, row_id, section in zip(records, ids, sections, strict=True):
            record.id = row_id.partition("\0")[2]
            self._sections[record.sheet, record.id] = section
        return records

    def _cells(self, section: _Section, start: int, budget: Budget) -> dict[str, str]:
        """The pairs of a section; a key that is there again gets its number behind it."""
        cells: dict[str, str] = {}
        ids: Counter[str] = Counter()
        for pair in _PAIR.finditer(self.text, start, section.end):
            budget.spend()
            own, value = pair[1].rstrip(" \t"), pair[2].strip(" \t")
            ids[own] += 1
            row_id = own if ids[own] == 1 and own not in section.spans else f"{own}[{ids[own]}]"
            while row_id in section.spans:
                ids[own] += 1
                row_id = f"{own}[{ids[own]}]"
            first = pair.start(2) + len(pair[2]) - len(pair[2].lstrip(" \t"))
            section.spans[row_id] = (first, first + len(value), pair.start())
            cells[row_id] = value
        return cells

    def at(self, path: str) -> tuple[str, str, str]:
        wanted = path.strip("/[]")
        for sheet, row_id in self._sections:
            if wanted == (row_id if sheet == SHEET else f"{sheet}/{row_id}"):
                return sheet, row_id, ""
        raise NotFoundError(
            f"{self.file}: there is no {path}",
            f"one of "
            f"{', '.join(row_id if sheet == SHEET else f'{sheet}/{row_id}' for sheet, row_id in [*self._sections][:12])}",  # noqa: E501
        )

    def splices(self, changes: Sequence[Change]) -> list[Splice]:
        offsets = Offsets(self.text)
        return [offsets.splice(*edit) for change in changes for edit in self._edits(change)]

    def _edits(self, change: Change) -> list[tuple[int, int, str]]:
        if change.what == "add":
            ids = [row_id for sheet, row_id in self._sections if sheet == change.sheet] or [
                row_id for _, row_id in self._sections
            ]
            like = self._section(change.sheet, change.like or ids[-1])
            newline = "\r\n" if "\r\n" in self.text else "\n"
            head = f"[{change.id}]" if change.sheet == SHEET else like.head.strip()
            lines = [head, *(f"{name} = {self._checked(value)}" for name, value in change.fields)]
            before = "" if not self.text or self.text[: like.end].endswith("\n") else newline
            return [(like.end, like.end, before + "".join(line + newline for line in lines))]
        section = self._section(change.sheet, change.id)
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
            f"{self.file}: row {change.id} has no field {change.field}; it has {', '.join(section.spans)}",
            f"{near[0]}=..." if near else "",
        )

    def _section(self, sheet: str, row_id: str) -> _Section:
        if (sheet, row_id) not in self._sections:
            near = ", ".join([row_id for name, row_id in self._sections if name == sheet][:12])
            raise NotFoundError(f"{self.file}: there is no row {row_id} in {sheet}", f"one of {near}" if near else "")
        return self._sections[sheet, row_id]

    def _checked(self, value: str) -> str:
        if "\n" in value or "\r" in value or value != value.strip():
            raise UnfitError(
                self.file, f"{value!r} cannot be a value in an INI file", hint="one line without blanks around it"
            )
        return value


def _own_key(cells: Mapping[str, str]) -> str | None:
    """The id of one of the sections of one name."""
    known = {name.lower(): value for name, value in cells.items()}
    return next((known[name].strip("\"'") for name in IDS if known.get(name)), None)
