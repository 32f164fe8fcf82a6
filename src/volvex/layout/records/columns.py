"""Columns: one value for each record, as arrays or as byte strings; and numbers as fields store them <-> true ones."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from volvex.errors import FormatError
from volvex.layout.arithmetic import NotMultipleError
from volvex.layout.model import Bits, Condition, Field, Number, Varint
from volvex.source import Source

Array = npt.NDArray[Any]
_LIKE_ASCII = ("utf-8", "ascii", "cp1252", "iso8859-1")
LARGEST = 1 << 62  # no number in a file is larger and makes sense


def _errors(encoding: str) -> str:
    """How undecodable bytes become characters that encode back to them."""
    return "surrogatepass" if encoding.startswith(("utf-16", "utf-32", "utf_16", "utf_32")) else "surrogateescape"


def decoded_name(raw: bytes, encoding: str) -> str:
    """A stored name as text; bytes that are none are escaped, for being shown."""
    try:
        return raw.decode(encoding, _errors(encoding))
    except UnicodeDecodeError:
        return raw.decode(encoding, "backslashreplace")


_ODD = np.uint64(0x9E3779B97F4A7C15)  # spreads the bits of what it is multiplied with


class Texts:
    """A column of byte strings, decoded when somebody asks."""

    def __init__(self, data: bytes, starts: Array, lengths: Array, encoding: str) -> None:
        self.data, self.starts, self.lengths, self.encoding = data, starts, lengths, encoding

    @classmethod
    def of(cls, values: Sequence[bytes], encoding: str) -> Texts:
        """A column of these values."""
        lengths = np.fromiter(map(len, values), np.int64, len(values))
        return cls(b"".join(values), np.cumsum(lengths) - lengths, lengths, encoding)

    def __len__(self) -> int:
        return len(self.starts)

    def raw(self, row: int) -> bytes:
        """The stored bytes of one text."""
        start = int(self.starts[row])
        return self.data[start : start + int(self.lengths[row])]

    def raws(self) -> list[bytes]:
        """The stored bytes of all."""
        data, ends = self.data, (self.starts + self.lengths).tolist()
        return [data[start:end] for start, end in zip(self.starts.tolist(), ends, strict=True)]

    def all(self) -> list[str]:
        """All texts; bytes that are not in the encoding become escapes that encode back to themselves."""
        encoding = self.encoding
        if encoding in _LIKE_ASCII:  # one decoding for all, when no byte needs more
            text = self.data.decode("latin-1")
            if self._in_a_row() and text.isascii():
                return text[int(self.starts[0]) : int(self.starts[-1] + self.lengths[-1])].split("\0")
            ends = (self.starts + self.lengths).tolist()
            names = [text[start:end] for start, end in zip(self.starts.tolist(), ends, strict=True)]
            if "".join(names).isascii():
                return names
        try:
            return [raw.decode(encoding, _errors(encoding)) for raw in self.raws()]
        except UnicodeDecodeError:
            return [decoded_name(raw, encoding) for raw in self.raws()]

    def _in_a_row(self) -> bool:
        """Whether the texts lie one behind the other, with a zero between any two and none within."""
        ends = self.starts + self.lengths
        if not len(ends) or not bool((self.starts[1:] == ends[:-1] + 1).all()):
            return False
        return self.data.count(0, int(self.starts[0]), int(ends[-1])) == len(ends) - 1

    def repeat(self) -> bool:
        """Whether two of the texts are the same.

        Only texts that agree in length and in their first and last bytes are compared whole: of most lists none do.
        """
        marks = self._marks()
        ordered = np.sort(marks)
        if not bool((ordered[1:] == ordered[:-1]).any()):
            return False
        order = np.argsort(marks, kind="stable")
        same = np.flatnonzero(marks[order][1:] == marks[order][:-1])
        rows = np.unique(np.concatenate([order[same], order[same + 1]]))
        return len(set(self.take(rows).raws())) < len(rows)

    def _marks(self) -> Array:
        """A number for each text, the same for the same texts: of its length, its first eight bytes and its last 24."""
        flat = np.frombuffer(self.data + bytes(8), np.uint8)
        eights = np.lib.stride_tricks.as_strided(flat, (len(flat) - 7, 8), (1, 1), writeable=False)
        lengths = self.lengths.astype(np.uint64)
        marks = lengths * _ODD
        room = np.minimum(lengths, np.uint64(8)) * np.uint64(8)  # bits of a window that are the text's own
        own = np.where(room == 64, ~np.uint64(0), (np.uint64(1) << (room % np.uint64(64))) - np.uint64(1))
        for back in (None, 8, 16, 24):
            at = self.starts if back is None else self.starts + np.maximum(0, self.lengths - back)
            marks = (marks ^ (eights[at].view("<u8").reshape(-1) & own)) * _ODD
        return marks

    def take(self, rows: Array) -> Texts:
        """The texts of these rows."""
        return Texts(self.data, self.starts[rows], self.lengths[rows], self.encoding)


Column = Array | Texts
Columns = dict[str, Column]


def taken(column: Column, rows: Array) -> Column:
    """The values of these rows."""
    return column.take(rows) if isinstance(column, Texts) else column[rows]


def joined(columns: list[Column]) -> Column:
    """Parts of a column put together; texts without what stood between them."""
    if isinstance(columns[0], Texts):
        texts = [column for column in columns if isinstance(column, Texts)]
        return Texts.of([raw for text in texts for raw in text.raws()], texts[0].encoding)
    return np.concatenate([one for one in columns if not isinstance(one, Texts)])


def rows_of(columns: Columns) -> int:
    """How many records there are."""
    return len(next(iter(columns.values())))


def holds(when: Condition, column: Column) -> Array:
    """For which records a condition on a column of stored values holds."""
    assert not isinstance(column, Texts)
    if isinstance(when.value, bytes):
        same = np.array([value.tobytes() == when.value for value in column], bool)
        return same if when.how == "is" else ~same
    wide = column.dtype.itemsize == 8 and column.dtype.kind == "u"
    values: Any = column.astype(object) if wide else column.astype(np.int64)
    return np.asarray(when.test(values), bool)


def encode_numbers(values: Array, field: Field, index: str) -> Array:
    """True numbers as `field` stores them (its changes undone); FormatError when one cannot be stored."""
    assert isinstance(field.type, Number | Bits | Varint)
    try:
        stored = values.astype(object) if _wide(field) else values.astype(np.int64)
    except OverflowError as error:
        worst = max(values.tolist(), key=abs)
        raise FormatError(
            index, f"{worst} does not fit {field.type}", field=field.name, hint="a smaller number"
        ) from error
    for change in reversed(field.changes):
        try:
            stored = change.undo(stored)
        except NotMultipleError as error:
            problem = f"a place that is not a multiple of {change.number} cannot be stored"
            raise FormatError(index, problem, field=field.name) from error
    low, high = field.type.limits
    if len(stored) and (int(stored.min()) < low or int(stored.max()) > high):
        worst = int(stored.max()) if int(stored.max()) > high else int(stored.min())
        raise FormatError(index, f"{worst} does not fit {field.type}, which goes up to {high}", field=field.name,
                          hint="less content, or a format with wider numbers")  # fmt: skip
    native = isinstance(field.type, Number) and field.type.native
    return stored.astype(np.dtype(field.type.dtype) if native and isinstance(field.type, Number) else np.int64)


def _wide(field: Field) -> bool:
    """Whether a field's numbers may go beyond what 64 bits with a sign hold."""
    return (isinstance(field.type, Number) and field.type.bits == 64) or any(
        change.number >= LARGEST for change in field.changes
    )


def _applied(numbers: Array, field: Field) -> Array:
    for change in field.changes:
        numbers = change.apply(numbers)
    return numbers


def decode_numbers(values: Array, field: Field, source: Source, starts: Array) -> Array:
    """The true numbers (int64) that `field` stores; FormatError when one is beyond all sense."""
    if not len(values):
        return np.zeros(0, np.int64)
    if all(change.how != "xor" for change in field.changes):  # the least stays the least
        least, most = int(values.min()), int(values.max())
        for change in field.changes:
            least, most = change.apply(least), change.apply(most)
        if most < LARGEST and least > -LARGEST:
            return _applied(values.astype(np.int64), field)
    numbers = _applied(values.astype(object), field)  # of any size
    wrong = np.asarray((numbers >= LARGEST) | (numbers <= -LARGEST), bool)
    if wrong.any():
        row = int(np.argmax(wrong))
        raise FormatError(
            source.name, f"{numbers[row]} is larger than any file", offset=int(starts[row]), field=field.name
        )
    return numbers.astype(np.int64)
