"""The one model of all data: sheets with typed columns and an id, whatever file they come from.

A table is a sheet; so is a text table, with a column for each language; a scene has a sheet for each type of object; an
XML or JSON file has one for each kind of record in it. A cell is told as text, and the text gives exactly the same
value again. What differs between two files, what a person sets and what a mod holds are all `Change`s: by sheet, id
and field.
"""

from __future__ import annotations

import difflib
import functools
from abc import ABC, abstractmethod
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from volvex.archive.safe_names import quoted
from volvex.errors import NotFoundError

Array = npt.NDArray[Any]
INT, FLOAT, TEXT, WORDS, BYTES, LIST = "whole number", "number", "text", "word", "bytes", "list"
JOINED = "@"  # between the parts of an id: a text's id and its language
NUMBERED = "#"  # before the number of a record that has no id


class InvalidValue(ValueError):
    """A value that a field cannot hold; the text says what it could."""


@dataclass(frozen=True)
class Rule:
    """What a column's cells are, and what they may be."""

    value_type: str = TEXT
    low: int | None = None  # of whole numbers
    high: int | None = None
    step: int = 1  # whole numbers are multiples of it, behind `low`
    bits: int = 64  # of numbers that are not whole
    words: tuple[str, ...] = ()
    most: int | None = None  # bytes of a text
    encoding: str = ""  # of a text; any character when not told
    refers: str = ""  # the sheet whose ids these are
    role: str = "value"
    fixed: bool = False  # it cannot be set
    zero: bool = True  # whether a text may hold the character 0

    def told(self) -> str:
        """What may be there, for errors."""
        if self.value_type == INT and self.low is not None:
            unit = f", in steps of {self.step}" if self.step > 1 else ""
            return f"a whole number from {self.low} to {self.high}{unit}"
        if self.value_type == WORDS:
            return f"one of {', '.join(self.words)}"
        if self.value_type == TEXT and self.most is not None:
            return f"a text of at most {self.most} bytes in {self.encoding}"
        return {
            INT: "a whole number",
            FLOAT: "a number",
            BYTES: "pairs of hexadecimal digits",
            LIST: "a list such as [1, 2]",
        }.get(self.value_type, f"a text in {self.encoding}" if self.encoding else "a text")


class Column:
    """A column: its values as an array, made when they are asked for. Numbers are numbers, all else texts or None."""

    def __init__(
        self, name: str, rule: Rule, load: Callable[[], Array], some: Callable[[Array], Array] | None = None
    ) -> None:
        self.name, self.rule, self._load, self._some = name, rule, load, some

    @functools.cached_property
    def values(self) -> Array:
        """Its values, a cell each."""
        return self._load()

    def text(self, row: int) -> str | None:
        """One cell as text; None where there is none."""
        if self._some is not None and "values" not in vars(self):
            return cell_text(self._some(np.array([row]))[0])
        return cell_text(self.values[row])

    def texts(self, rows: Array | None = None) -> list[str | None]:
        """Some cells, or all, as texts."""
        if rows is not None and self._some is not None and "values" not in vars(self):
            values = self._some(rows)  # a page of a long table needs no more
        else:
            values = self.values if rows is None else self.values[rows]
        if values.dtype.kind in "iu":
            return list(map(str, values.tolist()))
        if values.dtype.kind == "f":
            return float_texts(values)
        return [cell_text(value) for value in values.tolist()]


def cell_text(value: Any) -> str | None:
    """A value as the text that gives it back."""
    if value is None or isinstance(value, str):
        return value
    if isinstance(value, np.floating):
        return float_texts(np.array([value]))[0]
    return str(value)


def float_texts(values: Array) -> list[str | None]:
    """Numbers in as few digits as give the same bits again; each different one is written once."""
    bits = values.view({2: np.uint16, 4: np.uint32, 8: np.uint64}[values.dtype.itemsize])
    known, index = np.unique(bits, return_inverse=True)
    numbers = known.view(values.dtype)
    told = list(map(repr, numbers.tolist())) if numbers.dtype.itemsize == 8 else numbers.astype(str).tolist()
    texts = [one.removesuffix(".0") for one in told]
    for at in np.flatnonzero(np.isnan(numbers)).tolist():
        texts[at] = _nan_text(numbers[at])
    return np.array([*texts, None], object)[:-1][index].tolist()  # type: ignore[no-any-return]


def _nan_text(value: Any) -> str:
    """What is no number, with its bits when they are others than usual."""
    plain = type(value)("nan")
    return "nan" if value.tobytes() == plain.tobytes() else f"nan:{value.tobytes()[::-1].hex()}"


def float_value(text: str, bits: int) -> Any:
    """The number that a text stands for, in so many bits; Unfit when it is none."""
    kind: Any = {16: np.float16, 32: np.float32, 64: np.float64}[bits]
    try:
        if text.startswith("nan:"):
            return np.frombuffer(bytes.fromhex(text[4:])[::-1], kind)[0]
        number = float(text)
        with np.errstate(over="ignore"):
            value = kind(number)
    except ValueError:
        raise InvalidValue("a number such as 4.5") from None
    if np.isinf(value) and not np.isinf(number):
        raise InvalidValue(f"a number of at most {np.finfo(kind).max}")
    return value


class Sheet:
    """Records of the same fields, as columns of one length."""

    def __init__(
        self, name: str, columns: Iterable[Column], count: int, row_id: Sequence[str] = (), group: str = ""
    ) -> None:
        self.name, self.count, self.id, self.group = name, count, tuple(row_id), group or name
        self.columns: dict[str, Column] = {column.name: column for column in columns}
        self.hash: Callable[[str], str] | None = None  # a name's id, where ids are made of names
        self.cells: Sequence[Mapping[str, str]] | None = (
            None  # of each record, where most records have few of the fields
        )
        self.wanted_ids: Sequence[str] = ()  # as the records give them, even where two have the same
        self.places: Sequence[int] = range(count)  # of the records in the file, where other sheets' are among them

    def __len__(self) -> int:
        return self.count

    @functools.cached_property
    def ids(self) -> list[str]:
        """The id of each record; its number where there is none."""
        if not self.id:
            return [f"{NUMBERED}{row}" for row in range(self.count)]
        return distinct(self.plain_ids())

    def plain_ids(self) -> list[str]:
        """The ids as they are, even where two records have the same."""
        parts = [self.columns[name].texts() for name in self.id]
        if len(parts) == 1:
            return [text or "" for text in parts[0]]
        return [JOINED.join(one or "" for one in some) for some in zip(*parts, strict=True)]

    def id_of(self, row: int) -> str:
        """One record's id, without making those of all; of two records with one id both have the same."""
        if "ids" in vars(self) or not self.id:
            return self.ids[row]
        return JOINED.join(self.columns[name].text(row) or "" for name in self.id)

    @property
    def repeated(self) -> list[str]:
        """Ids that more than one record has."""
        plain = self.plain_ids() if self.id else self.wanted_ids or self.names
        return [row_id for row_id, times in Counter(plain).items() if row_id and times > 1 for _ in range(times - 1)]

    @functools.cached_property
    def rows(self) -> dict[str, int]:
        """The record of each id; of several with the same, the first."""
        return {row_id: row for row, row_id in reversed(list(enumerate(self.ids)))}

    @functools.cached_property
    def heads(self) -> dict[str, list[int]]:
        """The records by the first part of their ids."""
        found: dict[str, list[int]] = {}
        for row, row_id in enumerate(self.ids):
            found.setdefault(row_id.partition(JOINED)[0], []).append(row)
        return found

    @functools.cached_property
    def names(self) -> list[str | None]:
        """What the records are called beside their ids, where a column says so."""
        column = next((column for column in self.columns.values() if column.rule.role == "name"), None)
        return column.texts() if column is not None else []

    def row(self, row_id: str) -> int | None:
        """The record of an id, or of the name that the id is made of, or the only one called so."""
        if row_id in self.rows:
            return self.rows[row_id]
        if self.hash is not None:
            head, mark, tail = row_id.partition(JOINED)
            found = self.rows.get(f"{self.hash(head)}{mark}{tail}")
            if found is not None:
                return found
        rows = [row for row, name in enumerate(self.names) if name == row_id]
        return rows[0] if len(rows) == 1 else None

    def cell(self, row: int, field: str) -> str | None:
        """One cell as text."""
        return self.columns[field].text(row)

    def record(self, row: int) -> dict[str, str]:
        """A record's cells that are there."""
        if self.cells is not None:
            return dict(self.cells[row])
        generator = ((name, column.text(row)) for name, column in self.columns.items())
        return {name: text for name, text in generator if text is not None}

    def like(self, fields: Mapping[str, str | None]) -> str:
        """The id of the record that has most of some fields and the fewest others; of several the last."""
        records = self._fields_of_records
        best = max(range(len(self)), key=lambda row: (2 * len(records[row] & fields.keys()) - len(records[row]), row))
        return self.ids[best]

    @functools.cached_property
    def _fields_of_records(self) -> list[frozenset[str]]:
        return [frozenset(self.record(row)) for row in range(len(self))]

    def column(self, name: str, file: str) -> Column:
        """The column of that name; NotFoundError with a near miss when there is none."""
        if name in self.columns:
            return self.columns[name]
        near = difflib.get_close_matches(name, self.columns, 1)
        text = ", ".join(list(self.columns)[:12])
        raise NotFoundError(f"{file}: {self.name} has no field {name}; it has {text}", near[0] if near else "")


def distinct(ids: Sequence[str]) -> list[str]:
    """Ids of which no two are the same: the second of an id gets `#2` behind it, or the next number that is free."""
    if len(set(ids)) == len(ids):
        return list(ids)
    own, seen, counts = set(ids), set[str](), dict[str, int]()
    made = []
    for row_id in ids:
        free = row_id
        if row_id in seen:
            number = counts.get(row_id, 1)
            while free in own or free in seen:  # an id may look like another one with its number
                number += 1
                free = f"{row_id}{NUMBERED}{number}"
            counts[row_id] = number
        seen.add(free)
        made.append(free)
    return made


@dataclass(frozen=True)
class Change:
    """A difference by id and field, as texts. `what`: set, add, remove.

    A record that is added has its `fields`, and may be `like` another, from which it takes what nobody can set.
    """

    what: str
    sheet: str
    id: str
    field: str = ""
    before: str | None = None
    after: str | None = None
    fields: tuple[tuple[str, str], ...] = ()
    like: str = ""

    @property
    def place(self) -> tuple[str, str, str]:
        """What it is about."""
        return self.sheet, self.id, self.field


class Document(ABC):
    """A file of data: its sheets, and the way back with changes in it."""

    form: str  # table, text, scene, xml, json ...
    file: str  # how errors call it
    complete = False  # whether a new record has the fields that it was given, and no others

    @property
    @abstractmethod
    def sheets(self) -> list[Sheet]:
        """Its sheets."""

    def as_told(self, before: str | None, after: str) -> str:
        """A new value as the file's cells would tell it, given the one before."""
        return after

    @abstractmethod
    def reread(self, data: bytes) -> Document:
        """Another state of the same file; FormatError when it is not sound."""

    def compared(self, data: bytes, changes: Sequence[Change]) -> tuple[Document, Document] | None:
        """This state and another that these changes made; of large files the parts in which they differ. None when only
        its soundness was looked at; FormatError when it is not sound."""
        return self, self.reread(data)

    @abstractmethod
    def written(self, changes: Sequence[Change]) -> bytes:
        """The file with these changes, every other byte as it was. See `verified`, which reads it again.

        FormatError when a value does not fit, NotFoundError when a record or field is not there.
        """

    def sheet(self, name: str) -> Sheet:
        """The sheet of that name; NotFoundError with a near miss."""
        for sheet in self.sheets:
            if sheet.name == name:
                return sheet
        near = difflib.get_close_matches(name, [sheet.name for sheet in self.sheets], 1)
        raise NotFoundError(
            f"{self.file} has no {name}; it has {', '.join(sheet.name for sheet in self.sheets[:12])}",
            near[0] if near else "",
        )

    def find(self, row_id: str) -> tuple[Sheet, int]:
        """The record of an id, in whichever sheet; NotFoundError when there is none, or several."""
        found = [(sheet, row) for sheet in self.sheets if (row := sheet.row(row_id)) is not None]
        if len(found) == 1:
            return found[0]
        if found:
            text = ", ".join(sheet.name for sheet, _ in found)
            raise NotFoundError(
                f"{self.file}: row {row_id} occurs {len(found)} times: in {text}", f"--sheet {found[0][0].name}"
            )
        near = difflib.get_close_matches(row_id, [row_id for sheet in self.sheets for row_id in sheet.ids[:20000]], 1)
        raise NotFoundError(
            f"{self.file}: there is no row {row_id}",
            f"--row {near[0]}" if near else f"`volvex show {quoted(self.file)}`",
        )


def parsed(rule: Rule, text: str) -> Any:
    """The value that a cell's text stands for; Unfit when the column cannot hold it."""
    if rule.value_type == INT:
        return _whole(rule, text)
    if rule.value_type == FLOAT:
        return float_value(text, rule.bits)
    if rule.value_type == WORDS:
        if text not in rule.words and not (rule.low is not None and _is_number(text, rule)):
            near = difflib.get_close_matches(text, rule.words, 1)
            raise InvalidValue(rule.told() + (f"; perhaps {near[0]}" if near else ""))
        return text
    if rule.value_type == BYTES:
        try:
            raw = bytes.fromhex(text)
        except ValueError:
            raise InvalidValue(rule.told()) from None
        if rule.most is not None and len(raw) != rule.most:
            raise InvalidValue(f"{rule.most} bytes in hexadecimal digits, this has {len(raw)}")
        return raw.hex(" ")
    return _fitting(rule, text) if rule.value_type == TEXT else text


def _is_number(text: str, rule: Rule) -> bool:
    try:
        _whole(rule, text)
    except InvalidValue:
        return False
    return True


def _whole(rule: Rule, text: str) -> int:
    plain = text[1:] if text.startswith("-") else text
    if not (plain.isascii() and plain.isdigit()) or (len(plain) > 1 and plain[0] == "0") or text == "-0":
        raise InvalidValue(rule.told())
    if len(plain) > 400:
        raise InvalidValue(rule.told())
    number = int(text)
    if rule.low is not None and rule.high is not None and not rule.low <= number <= rule.high:
        raise InvalidValue(rule.told())
    if rule.low is not None and (number - rule.low) % rule.step:
        raise InvalidValue(rule.told())
    return number


def _fitting(rule: Rule, text: str) -> str:
    """A text that the column's encoding has the characters of, and its bytes the room for."""
    if not rule.zero and "\0" in text:
        raise InvalidValue("a text without the character 0, which would end it")
    if not rule.encoding:
        return text
    try:
        raw = text.encode(rule.encoding, "surrogateescape")
    except UnicodeEncodeError as error:
        raise InvalidValue(f"characters of {rule.encoding}, which has no {text[error.start]!r}") from None
    if rule.most is not None and len(raw) > rule.most:
        raise InvalidValue(f"a text of at most {rule.most} bytes in {rule.encoding}, this has {len(raw)}")
    return text
