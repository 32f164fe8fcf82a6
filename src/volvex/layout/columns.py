"""Columns: one value for each record, as arrays or as byte strings."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[Any]
_LIKE_ASCII = ("utf-8", "ascii", "cp1252", "iso8859-1")


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
AllColumns = dict[str, Columns]  # of several blocks, by their names


def taken(column: Column, rows: Array) -> Column:
    """The values of these rows."""
    return column.take(rows) if isinstance(column, Texts) else column[rows]


def joined(columns: list[Column]) -> Column:
    """Parts of a column put together; texts without what stood between them."""
    if isinstance(columns[0], Texts):
        texts = [column for column in columns if isinstance(column, Texts)]
        return Texts.of([raw for text in texts for raw in text.raws()], texts[0].encoding)
    return np.concatenate([column for column in columns if not isinstance(column, Texts)])


def rows_of(columns: Columns) -> int:
    """How many records there are."""
    return len(next(iter(columns.values())))


def sorting(column: Column) -> Array:
    """The order in which a column ascends; equal ones stay as they were."""
    if isinstance(column, Texts):
        raws = column.raws()
        return np.array(sorted(range(len(raws)), key=raws.__getitem__), dtype=np.int64)
    return np.argsort(column, kind="stable")


def one_row(columns: Columns, row: int) -> Columns:
    """The columns of a single record."""
    return {name: taken(column, np.array([row])) for name, column in columns.items()}
