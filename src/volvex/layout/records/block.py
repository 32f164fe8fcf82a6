"""A block compiled for reading and writing: records <-> columns.

A block without anything of changing size is one NumPy structured array. Otherwise a generated loop finds where each
record starts (see `codegen`), and the runs of fixed size are gathered in bulk.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.errors import FRESH, CapacityError, FormatError
from volvex.layout.columns import Array, Columns, Texts, joined, rows_of
from volvex.layout.model import Bits, Block, Constant, Field, Number, Text
from volvex.layout.records.codegen import Run, compile_inline_walk, compile_walk, prefix_name, runs_of
from volvex.layout.records.numbers import encode_numbers, present
from volvex.layout.types import InvalidValue, Unreadable
from volvex.layout.types._base import gather_rows, rows_bytes
from volvex.layout.types.text import is_whole
from volvex.source import Source

WINDOW = 1 << 16  # bytes that are read at once of records with content between them
LARGEST = 1 << 30  # bytes of a block's records that are read at the most
LONGEST = 1 << 24  # bytes of one record
FIRST = 1 << 20  # bytes read at first when a block's length is not known
REST = "what follows in"  # the hidden column with what stands behind the end of a padded text


@dataclass(frozen=True)
class Read:
    """What was read of a block: its columns, where each record starts (in the source), and its bytes."""

    columns: Columns
    starts: Array
    data: bytes
    ends: Array | None = None  # of each record (in the source), when content follows it
    end: int = 0  # of the last content


class Records:
    """A block's reader and writer."""

    def __init__(self, block: Block) -> None:
        self.block = block
        self.runs = runs_of(block)
        self.fixed = len(self.runs) == 1 and self.runs[0].tail is None
        self.least = sum(run.size + run.ending for run in self.runs)  # a record is never shorter
        self.parts: dict[str, list[Field]] = {}  # by the field whose bits they are
        for field in block.fields:
            if isinstance(field.type, Bits):
                self.parts.setdefault(field.type.host, []).append(field)
        self.hosts = sorted(self.parts)

    # reading

    def read(self, source: Source, start: int, count: int | None, length: int | None, asked: str = "") -> Read:
        """`count` records from `start`, or as many as `length` bytes hold; FormatError when they do not fit."""
        room = source.size - start if length is None else length
        if start < 0 or room < 0 or start + room > source.size:
            raise FormatError(
                source.name,
                f"{self.block.name} would reach past the end of the file at {source.size:#x}",
                offset=start,
                hint=FRESH,
                asked=asked or "another layout",
            )
        if count is not None and count * max(1, self.least) > room:
            raise FormatError(
                source.name,
                f"{count} records of at least {self.least} bytes do not fit into the {room} bytes there are",
                offset=start,
                field=self.block.name,
                hint=FRESH,
                asked=asked or "the layout: is that the count?",
            )
        if (count is not None and count * max(1, self.least) > LARGEST) or (length or 0) > LARGEST:
            raise FormatError(
                source.name,
                f"more than {LARGEST >> 20} MB of records, which is no directory",
                offset=start,
                field=self.block.name,
                hint=FRESH,
                asked="another layout",
            )
        read = self._read_fixed if self.fixed else self._read_walking
        try:
            found = self._read_until(source, start, room) if self.block.until else read(source, start, count, room)
        except (Unreadable, InvalidValue) as error:
            raise self._longer(source, start, error) from error
        if length is not None and len(found.data) != length:
            raise FormatError(
                source.name,
                f"its records end after {len(found.data)} bytes, expected {length} by its length",
                offset=start,
                field=self.block.name,
            )
        return found

    def _read_fixed(self, source: Source, start: int, count: int | None, room: int) -> Read:
        size = self.runs[0].size
        number = room // max(1, size) if count is None else count
        data = source.read(start, number * size)
        rows = np.frombuffer(data, self.runs[0].dtype)
        columns: Columns = {}
        for field in self.runs[0].fields:
            self._add_at(columns, field, rows, np.arange(number, dtype=np.int64) * size)
        return Read(columns, start + np.arange(number, dtype=np.int64) * size, data)

    def _read_until(self, source: Source, start: int, room: int) -> Read:
        """Records up to the first that would start with the bytes that end the row."""
        mark, walk = self.block.until or b"", compile_walk(self.runs, self.block.fields)
        starts, zeros = list[int](), list[int]()
        data, position = source.read(start, min(room, FIRST)), 0
        while not data.startswith(mark, position):
            reached = walk(data, position, 1, starts, zeros)
            if reached == position:
                if len(data) == room:
                    problem = f"the row of {self.block.name} goes on to the end: {mark!r} is not behind it"
                    raise FormatError(source.name, problem, offset=start + position, field=self.block.name, hint=FRESH)
                self._check_growth(source, start + position, len(data) - position, len(data), len(starts))
                data += source.read(start + len(data), min(room - len(data), len(data)))
            position = reached
        rows = np.array(starts, dtype=np.int64)
        return Read(self._gather(data[:position], rows, zeros), start + rows, data[:position])

    def _read_pool(self, source: Source, start: int, room: int) -> Read | None:
        """Texts that end at a zero and nothing else, as many as there are: found all at once. None when they do not end
        so."""
        run = self.runs[0]
        if len(self.runs) > 1 or run.size or run.ending != 1 or room > LARGEST or run.tail is None:
            return None
        data = source.read(start, room)
        if not data or data[-1]:
            return None
        zeros = np.flatnonzero(np.frombuffer(data, np.uint8) == 0)
        rows = np.concatenate([np.zeros(1, np.int64), zeros[:-1] + 1])
        texts = run.tail.type.tails(data, rows, zeros - rows, None)
        return Read({run.tail.name: texts}, start + rows, data)

    def _read_walking(self, source: Source, start: int, count: int | None, room: int) -> Read:
        pool = self._read_pool(source, start, room) if count is None else None
        if pool is not None:
            return pool
        walk, starts, zeros = compile_walk(self.runs, self.block.fields), list[int](), list[int]()
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
            self._check_constants(source, [start + number for number in starts], start + position)
            raise FormatError(
                source.name,
                "the file ends within this record",
                offset=start + position,
                field=f"{self.block.name}[{len(starts)}]",
                hint="a fresh copy of the file: it may be cut off",
            )
        data = data[:position]
        rows = np.array(starts, dtype=np.int64)
        return Read(self._gather(data, rows, zeros), start + rows, data)

    def read_inline(self, source: Source, start: int, count: int | None, stored: Field, content_align: int) -> Read:
        """Records that are each followed by their content, `stored` bytes of it; the content is passed over."""
        walk, mark = (
            compile_inline_walk(self.runs, self.block.fields, stored, self.block.align, content_align),
            self.block.until or b"",
        )
        found: list[Columns] = []
        starts: list[int] = []
        ends: list[int] = []
        position, size, stopped = start, WINDOW, False
        while not stopped and (len(starts) < count if count is not None else mark or position < source.size):
            window, zeros, first = source.peek(min(position, source.size), size), list[int](), len(starts)
            wanted = len(window) + 1 if count is None else count - first
            reached, stopped = walk(window, position, wanted, starts, ends, zeros, mark, start)
            if len(starts) > first:
                try:
                    found.append(self._gather(window, np.array(starts[first:], np.int64) - position, zeros))
                except (Unreadable, InvalidValue) as error:
                    raise self._longer(source, position, error) from error
                size = WINDOW
            elif not reached and not stopped:  # not even one record is whole: a longer look, if there is more
                if position + len(window) >= source.size:
                    self._check_constants(source, starts, position)
                    raise FormatError(
                        source.name,
                        "the file ends within this record",
                        offset=position,
                        field=f"{self.block.name}[{first}]",
                        hint="a fresh copy of the file: it may be cut off",
                    )
                self._check_growth(source, position, size, 0, first)
                size *= 4
            position += reached
        columns = _stacked(found) if found else self._gather(b"", np.zeros(0, np.int64), [])
        return Read(columns, np.array(starts, np.int64), b"", np.array(ends, np.int64), position)

    def _check_constants(self, source: Source, starts: Sequence[int], last: int) -> None:
        """FormatError for the first record whose constants are not right, when a later one has no end: that is where it
        went wrong."""
        wanted = [
            (field, int(self.runs[0].dtype.fields[field.name][1]))
            for field in self.runs[0].fields
            if isinstance(field.meaning, Constant) and field.when is None and self.runs[0].dtype.fields is not None
        ]
        for row, start in enumerate([*starts, last]):
            for field, at in wanted:
                value = field.meaning.value if isinstance(field.meaning, Constant) else b""
                expected = value if isinstance(value, bytes) else field.type.encode(value, {})
                found = source.peek(start + at, len(expected))
                if found != expected:
                    raise FormatError(
                        source.name,
                        f"{found!r}, expected {expected!r}",
                        offset=start + at,
                        field=f"{self.block.name}[{row}].{field.name}",
                        hint="a layout for this version of the format",
                    )

    def _longer(self, source: Source, start: int, error: ValueError) -> FormatError:
        return FormatError(
            source.name,
            str(error),
            offset=start + (error.offset if isinstance(error, Unreadable) else 0),
            field=self.block.name,
            hint=FRESH,
            asked="describing that number as bytes that are kept, or another layout",
        )

    def _check_growth(self, source: Source, offset: int, unread: int, size: int, row: int) -> None:
        """A record without an end, or records without one, must not take the memory that the file has bytes."""
        if unread > LONGEST or size > LARGEST:
            raise FormatError(
                source.name,
                f"this record has no end within {LONGEST >> 20} MB, or there are too many before it",
                offset=offset,
                field=f"{self.block.name}[{row}]",
                hint=FRESH,
                asked="another layout",
            )

    def _gather(self, data: bytes, rows: Array, measured: list[int]) -> Columns:
        """The columns of records that start at `rows` in `data`."""
        columns: Columns = {}
        lengths = np.array(measured, dtype=np.int64).reshape(len(rows), sum(run.measured for run in self.runs))
        base, place = rows, 0
        for run in self.runs:
            values = gather_rows(data, base, run.dtype)
            for field in run.fields:
                self._add_at(columns, field, values, base)
            base = base + run.size
            if run.tail is None:
                continue
            if run.prefixed is not None:
                kind = run.tail.type
                assert isinstance(kind, Text)
                length = run.prefixed.numbers(values[prefix_name(run.tail)]).astype(np.int64)
                length = length * kind.unit + kind.extra
            else:
                length, place = lengths[:, place], place + 1
            there = self._there(run.tail, columns)
            columns[run.tail.name] = run.tail.type.tails(data, base, length, there)
            base = base + length + run.ending
        return columns

    def _there(self, field: Field, columns: Columns) -> Array | None:
        """In which records a field is, where a condition says so."""
        return None if field.when is None else present(self.block.fields, field.when, columns)

    def _add_at(self, columns: Columns, field: Field, values: Array, base: Array) -> None:
        """Put the values of a field into the columns, from rows whose bytes start at `base`; Unreadable tells where."""
        try:
            self._add(columns, field, values[field.name])
        except Unreadable as error:
            at = int(values.dtype.fields[field.name][1]) if values.dtype.fields else 0
            raise Unreadable(str(error), offset=int(base[error.row or 0]) + at) from error

    def _add(self, columns: Columns, field: Field, values: Array) -> None:
        """Put the values of a field of fixed size into the columns, and the fields that are bits of it."""
        columns[field.name], rest = field.type.column(values)
        if rest is not None:
            columns[f"{REST} {field.name}"] = rest
        if field.name not in self.parts:
            return
        assert isinstance(field.type, Number)  # bits are of numbers alone
        numbers = field.type.numbers(values).astype(np.uint64)
        for part in self.parts[field.name]:
            if isinstance(part.type, Bits):
                columns[part.name] = part.type.taken_from(numbers).astype(np.int64)

    # writing

    def size(self, columns: Columns) -> int:
        """The bytes that records with these columns take."""
        total = 0
        for run in self.runs:
            total += (run.size + run.ending) * rows_of(columns)
            if run.tail is not None:
                total += self._tail_size(run.tail, columns)
        return total

    def _tail_size(self, field: Field, columns: Columns) -> int:
        column, kind = columns[field.name], field.type
        whole = is_whole(field) or (isinstance(kind, Text) and kind.size is not None)
        if isinstance(column, Texts) and not whole:
            return int(column.lengths.sum())
        return sum(map(len, self._tail_bytes(field, columns)))

    def write(self, columns: Columns) -> bytes:
        """The records' bytes. Numbers must fit: see `columns.encode_numbers`."""
        if self.fixed:
            return self._rows(self.runs[0], self._composed(columns)).tobytes()
        pieces = self.pieces(columns)
        if len(pieces) == 1:
            return b"".join(pieces[0])
        return b"".join([part for record in zip(*pieces, strict=True) for part in record])

    def sizes(self, columns: Columns) -> Array:
        """The bytes of each record."""
        return np.array([sum(map(len, parts)) for parts in zip(*self.pieces(columns), strict=True)], np.int64)

    def pieces(self, columns: Columns) -> list[list[bytes]]:
        """The records' bytes: for each stretch of a record what it is in each of them."""
        columns = self._composed(columns)
        pieces: list[list[bytes]] = []
        for run in self.runs:
            values = self._rows(run, columns)
            if run.prefixed is not None and run.tail is not None:
                values[prefix_name(run.tail)] = self._length(run.tail, run.prefixed, columns)
            pieces.append(rows_bytes(values))
            if run.tail is not None:
                pieces.append(self._tail_bytes(run.tail, columns))
        return pieces

    def _rows(self, run: Run, columns: Columns) -> Array:
        """The members of fixed size of a run, as rows."""
        values = np.zeros(rows_of(columns), run.dtype)
        for field in run.fields:
            values[field.name] = self._stored(field, columns)
        return values

    def _composed(self, columns: Columns) -> Columns:
        """The columns with numbers whose bits are fields of their own put together, and told lengths measured."""
        made = dict(columns)
        for host in self.hosts:
            column = made[host]
            assert not isinstance(column, Texts)
            whole = column.astype(np.uint64)
            for field in self.block.fields:
                if isinstance(field.type, Bits) and field.type.host == host:
                    part: Any = made[field.name]
                    mask, shift = np.uint64(field.type.limits[1]), np.uint64(field.type.low)
                    whole = (whole & ~(mask << shift)) | ((part.astype(np.uint64) & mask) << shift)
            made[host] = whole.astype(column.dtype)
        for field in self.block.fields:
            if isinstance(field.type, Text) and field.type.length_by and field.when is None:
                texts = made[field.name]
                assert isinstance(texts, Texts)
                self._tell(made, field, texts.lengths)
        return made

    def _tell(self, columns: Columns, field: Field, lengths: Array) -> None:
        """Put the lengths of a text into the field that tells them."""
        kind = field.type
        assert isinstance(kind, Text)
        teller = next(field for field in self.block.fields if field.name == kind.length_by)
        columns[teller.name] = encode_numbers(self._counted(field, lengths), teller, self.block.name)

    def _counted(self, field: Field, lengths: Array) -> Array:
        """Lengths in bytes as a text's number counts them."""
        assert isinstance(field.type, Text)
        try:
            return field.type.counted(lengths)
        except InvalidValue as error:
            raise CapacityError(self.block.name, str(error), field=field.name, hint="a shorter one") from error

    def _stored(self, field: Field, columns: Columns) -> Array:
        rest = columns.get(f"{REST} {field.name}")
        try:
            return field.type.rows(columns[field.name], rest if isinstance(rest, Texts) else None)
        except InvalidValue as error:
            raise CapacityError(self.block.name, str(error), field=field.name, hint="a shorter one") from error

    def _length(self, field: Field, prefix: Number, columns: Columns) -> Array:
        texts = columns[field.name]
        assert isinstance(texts, Texts)
        lengths = self._counted(field, texts.lengths)
        if len(lengths) and int(lengths.max()) > prefix.limits[1]:
            raise CapacityError(
                self.block.name, f"a text of {int(texts.lengths.max())} bytes, its length is {prefix}", field=field.name
            )
        return prefix.rows(lengths)

    def _tail_bytes(self, field: Field, columns: Columns) -> list[bytes]:
        """What changes its size, for each record."""
        try:
            return field.type.tail_bytes(columns[field.name], self._there(field, columns))
        except InvalidValue as error:
            raise CapacityError(self.block.name, str(error), field=field.name, hint="a shorter one") from error


def _stacked(found: list[Columns]) -> Columns:
    """Columns of several stretches as one; a hidden column may be missing from some of them."""
    names = {name: None for record in found for name in record}
    return {
        name: joined(
            [record[name] if name in record else Texts.of([b""] * rows_of(record), "latin-1") for record in found]
        )
        for name in names
    }
