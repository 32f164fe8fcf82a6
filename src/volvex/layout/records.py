"""A block compiled for reading and writing: records <-> columns.

A block without variable texts is one NumPy structured array. Otherwise a generated loop finds where each record
starts (see `walking`), and the runs of fixed size are gathered in bulk.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from volvex.errors import FormatError
from volvex.layout.model import Block, Field, Number, Text
from volvex.layout.walking import compile_inline_walk, compile_walk, prefix_name, runs_of, zero_end
from volvex.source import Source

Array = npt.NDArray[Any]
WINDOW = 1 << 16  # bytes that are read at once of records with content between them
LARGEST = 1 << 30  # bytes of a block's records that are read at the most
LONGEST = 1 << 24  # bytes of one record
GATHER = 1 << 16  # records gathered at once
_LIKE_ASCII = ("utf-8", "ascii", "cp1252", "latin-1")
FIRST = 1 << 20  # bytes read at first when a block's length is not known


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
            ends = (self.starts + self.lengths).tolist()
            names = [text[start:end] for start, end in zip(self.starts.tolist(), ends, strict=True)]
            if "".join(names).isascii():
                return names
        return [raw.decode(encoding, "surrogateescape") for raw in self.raws()]

    def take(self, rows: Array) -> Texts:
        """The texts of these rows."""
        return Texts(self.data, self.starts[rows], self.lengths[rows], self.encoding)


Column = Array | Texts
Columns = dict[str, Column]


@dataclass(frozen=True)
class Read:
    """What was read of a block: its columns, where each record starts (in the file), and its bytes."""

    columns: Columns
    starts: Array
    data: bytes
    ends: Array | None = None  # of each record (in the file), when content follows it
    end: int = 0  # of the last content


class Records:
    """A block's reader and writer."""

    def __init__(self, block: Block) -> None:
        self.block = block
        self.runs = runs_of(block)
        self.fixed = len(self.runs) == 1 and self.runs[0].text is None
        self.least = sum(run.size + zero_end(run) for run in self.runs)  # a record is never shorter

    # reading

    def read(self, source: Source, start: int, count: int | None, length: int | None) -> Read:
        """`count` records from `start`, or as many as `length` bytes hold; FormatError when they do not fit."""
        room = source.size - start if length is None else length
        if start < 0 or room < 0 or start + room > source.size:
            raise FormatError(source.name, f"{self.block.name} would reach past the end of the file at {source.size:#x}",
                              offset=start, hint="another layout: is the start counted in another unit?")  # fmt: skip
        if count is not None and count * max(1, self.least) > room:
            raise FormatError(
                source.name, f"{count} records of at least {self.least} bytes do not fit into the {room} bytes there are",
                offset=start, field=self.block.name, hint="a fresh copy of the file: the count is damaged, or the layout is wrong",
            )  # fmt: skip
        if (count is not None and count * max(1, self.least) > LARGEST) or (length or 0) > LARGEST:
            raise FormatError(source.name, f"more than {LARGEST >> 20} MB of records, which is no directory", offset=start,
                              field=self.block.name, hint="another layout, or a fresh copy of the file")  # fmt: skip
        read = self._read_fixed if self.fixed else self._read_walking
        found = read(source, start, count, room)
        if length is not None and len(found.data) != length:
            raise FormatError(source.name, f"its records end after {len(found.data)} bytes, its length says {length}",
                              offset=start, field=self.block.name)  # fmt: skip
        return found

    def _read_fixed(self, source: Source, start: int, count: int | None, room: int) -> Read:
        size = self.runs[0].size
        number = room // max(1, size) if count is None else count
        data = source.read(start, number * size)
        rows = np.frombuffer(data, self.runs[0].dtype)
        return Read({field.name: self._column(field, rows[field.name]) for field in self.runs[0].fields},
                    start + np.arange(number, dtype=np.int64) * size, data)  # fmt: skip

    def _read_walking(self, source: Source, start: int, count: int | None, room: int) -> Read:
        walk, starts, zeros = compile_walk(self.runs), list[int](), list[int]()
        wanted = room if count is None else count
        size = min(room, LARGEST, max(FIRST, wanted * (self.least + 48)) if count is not None else room)
        data, position = source.read(start, size), 0
        while True:
            position = walk(data, position, wanted - len(starts), starts, zeros)
            if len(starts) == wanted or len(data) == room:
                break
            self._check_growth(source, start + position, len(data) - position, len(data), len(starts))
            data += source.read(start + len(data), min(room - len(data), len(data)))
        if count is not None and len(starts) < count:
            raise FormatError(source.name, "the file ends within this record", offset=start + position,
                              field=f"{self.block.name}[{len(starts)}]", hint="a fresh copy of the file: it may be cut off")  # fmt: skip
        data = data[:position]
        rows = np.array(starts, dtype=np.int64)
        return Read(self._gather(data, rows, zeros), start + rows, data)

    def read_inline(self, source: Source, start: int, count: int | None, stored: Field, content_align: int) -> Read:
        """Records that are each followed by their content, `stored` bytes of it; the content is passed over."""
        walk, mark = compile_inline_walk(self.runs, stored, self.block.align, content_align), self.block.until or b""
        found: list[Columns] = []
        starts: list[int] = []
        ends: list[int] = []
        position, size, stopped = start, WINDOW, False
        while not stopped and (len(starts) < count if count is not None else mark or position < source.size):
            window, zeros, first = source.peek(min(position, source.size), size), list[int](), len(starts)
            wanted = len(window) + 1 if count is None else count - first
            reached, stopped = walk(window, position, wanted, starts, ends, zeros, mark)
            if len(starts) > first:
                found.append(self._gather(window, np.array(starts[first:], np.int64) - position, zeros))
                size = WINDOW
            elif not reached and not stopped:  # not even one record is whole: a longer look, if there is more
                if position + len(window) >= source.size:
                    raise FormatError(source.name, "the file ends within this record", offset=position,
                                      field=f"{self.block.name}[{first}]", hint="a fresh copy of the file: it may be cut off")  # fmt: skip
                self._check_growth(source, position, size, 0, first)
                size *= 4
            position += reached
        columns = self._gather(b"", np.zeros(0, np.int64), []) if not found else {
            name: _joined([one[name] for one in found]) for name in found[0]}  # fmt: skip
        return Read(columns, np.array(starts, np.int64), b"", np.array(ends, np.int64), position)

    def _check_growth(self, source: Source, offset: int, unread: int, size: int, row: int) -> None:
        """A record without an end, or records without one, must not take the memory that the file has bytes."""
        if unread > LONGEST or size > LARGEST:
            raise FormatError(source.name, f"this record has no end within {LONGEST >> 20} MB, or there are too many before it",
                              offset=offset, field=f"{self.block.name}[{row}]", hint="another layout, or a fresh copy of the file")  # fmt: skip

    def _gather(self, data: bytes, rows: Array, zeros: list[int]) -> Columns:
        """The columns of records that start at `rows` in `data`."""
        columns: Columns = {}
        lengths = np.array(zeros, dtype=np.int64).reshape(len(rows), sum(map(zero_end, self.runs)))
        base, ended = rows, 0
        for run in self.runs:
            values = _gather_rows(data, base, run.dtype)
            columns |= {field.name: self._column(field, values[field.name]) for field in run.fields}
            base = base + run.size
            if run.text is None:
                continue
            kind = run.text.type
            assert isinstance(kind, Text)
            if kind.prefix is not None:
                length = values[prefix_name(run.text)].astype(np.int64)
            else:
                length, ended = lengths[:, ended], ended + 1
            columns[run.text.name] = Texts(data, base, length, kind.encoding)
            base = base + length + zero_end(run)
        return columns

    def _column(self, field: Field, values: Array) -> Column:
        if not isinstance(field.type, Text):
            return values
        raws = [value.tobytes().rstrip(b"\0") for value in values]
        return Texts.of(raws, field.type.encoding)

    # writing

    def size(self, columns: Columns) -> int:
        """The bytes that records with these columns take."""
        total = 0
        for run in self.runs:
            total += (run.size + zero_end(run)) * _rows(columns)
            if run.text is not None:
                texts = columns[run.text.name]
                assert isinstance(texts, Texts)
                total += int(texts.lengths.sum())
        return total

    def write(self, columns: Columns) -> bytes:
        """The records' bytes. Numbers must fit: see `fit`."""
        count = _rows(columns)
        pieces: list[list[bytes]] = []
        for run in self.runs:
            values = np.zeros(count, run.dtype)
            for field in run.fields:
                values[field.name] = self._stored(field, columns[field.name])
            if run.text is None:
                pieces.append(_split(values))
                continue
            texts = columns[run.text.name]
            assert isinstance(texts, Texts) and isinstance(run.text.type, Text)
            if run.text.type.prefix is not None:
                values[prefix_name(run.text)] = self._length(run.text, run.text.type.prefix, texts)
            end = b"" if run.text.type.prefix else b"\0"
            pieces += [_split(values), [raw + end for raw in texts.raws()]]
        if len(pieces) == 1:
            return b"".join(pieces[0])
        return b"".join([part for record in zip(*pieces, strict=True) for part in record])

    def _stored(self, field: Field, column: Column) -> Array:
        if not isinstance(column, Texts):
            return column
        assert isinstance(field.type, Text) and field.type.size is not None
        size = field.type.size
        if len(column) and int(column.lengths.max()) > size:
            raise FormatError(
                self.block.name, f"{int(column.lengths.max())} bytes do not fit into {size}", field=field.name
            )
        return np.array([raw.ljust(size, b"\0") for raw in column.raws()], dtype=f"S{size}").view(f"V{size}")

    def _length(self, field: Field, prefix: Number, texts: Texts) -> Array:
        if len(texts) and int(texts.lengths.max()) > prefix.limits[1]:
            raise FormatError(
                self.block.name, f"a text of {int(texts.lengths.max())} bytes, its length is {prefix}", field=field.name
            )
        return texts.lengths


def _joined(columns: list[Column]) -> Column:
    """Parts of a column put together; texts without what stood between them."""
    if isinstance(columns[0], Texts):
        texts = [one for one in columns if isinstance(one, Texts)]
        return Texts.of([raw for one in texts for raw in one.raws()], texts[0].encoding)
    return np.concatenate([one for one in columns if not isinstance(one, Texts)])


def _rows(columns: Columns) -> int:
    return len(next(iter(columns.values())))


def _split(values: Array) -> list[bytes]:
    size, data = values.dtype.itemsize, values.tobytes()
    return [data[at : at + size] for at in range(0, len(data), size)] if size else [b""] * len(values)


def _gather_rows(data: bytes, base: Array, dtype: np.dtype[Any]) -> Array:
    """The structures of `dtype` that start at `base` in `data`."""
    values = np.zeros(len(base), dtype)
    if dtype.itemsize == 0 or not len(base):
        return values
    flat, step = np.frombuffer(data, np.uint8), np.arange(dtype.itemsize)
    for first in range(0, len(base), GATHER):
        some = base[first : first + GATHER]
        values[first : first + GATHER] = flat[some[:, None] + step].view(dtype)[:, 0]
    return values


def fit(values: Array, field: Field, index: str) -> Array:
    """True numbers as `field` stores them (its changes undone); FormatError when one cannot be stored."""
    assert isinstance(field.type, Number)
    stored = values.astype(object) if field.type.bits == 64 else values.astype(np.int64)
    for change in reversed(field.changes):
        stored = _undo(stored, change.how, change.number, field, index)
    low, high = field.type.limits
    if len(stored) and (int(stored.min()) < low or int(stored.max()) > high):
        worst = int(stored.max()) if int(stored.max()) > high else int(stored.min())
        raise FormatError(index, f"{worst} does not fit {field.type}, which goes up to {high}", field=field.name,
                          hint="less content, or a format with wider numbers")  # fmt: skip
    return stored.astype(np.dtype(field.type.dtype))


def _undo(stored: Array, how: str, number: int, field: Field, index: str) -> Array:
    if how == "plus":
        return stored - number
    if how == "xor":
        return stored ^ number
    if len(stored) and (stored % number).any():
        raise FormatError(index, f"a place that is not a multiple of {number} cannot be said", field=field.name)
    return stored // number


def true(values: Array, field: Field, source: Source, starts: Array) -> Array:
    """The true numbers (int64) that `field` stores; FormatError when one is beyond all sense."""
    assert isinstance(field.type, Number)
    numbers = values.astype(object) if field.type.bits == 64 else values.astype(np.int64)
    for change in field.changes:
        if change.how == "xor":
            numbers = numbers ^ change.number
        else:
            numbers = numbers * change.number if change.how == "times" else numbers + change.number
    if field.type.bits == 64 and len(numbers) and (numbers.max() >= 1 << 62 or numbers.min() <= -(1 << 62)):
        row = int(np.argmax(numbers >= 1 << 62))
        raise FormatError(
            source.name, f"{numbers[row]} is larger than any file", offset=int(starts[row]), field=field.name
        )
    return numbers.astype(np.int64)
