"""A block's fields as runs, and the generated loops that find where records of changing size start.

A run is members of fixed size, and a tail whose size changes: a text, a number of as many bytes as it needs, an array, a
choice, or anything that is there only sometimes. A prefix that says a text's length is the last member of the run before
it. The loops' text is made of integers alone, so no layout can put code into it; they touch only what decides a
record's length.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.layout.model import (
    ArrayType,
    Bits,
    Block,
    Choice,
    Field,
    FieldType,
    Float,
    InlineBytes,
    Nested,
    Number,
    Raw,
    Text,
    Varint,
)  # fmt: skip

Walk = Callable[[bytes, int, int, list[int], list[int]], int]
InlineWalk = Callable[[bytes, int, int, list[int], list[int], list[int], bytes], tuple[int, bool]]
VARINT_BYTES = 9  # of 7 bits each: no number of more than 63 bits is read


@dataclass(frozen=True)
class Run:
    """Members of fixed size, and what comes after them."""

    dtype: np.dtype[Any]
    fields: tuple[Field, ...]
    tail: Field | None

    @property
    def size(self) -> int:
        return int(self.dtype.itemsize)

    @property
    def prefixed(self) -> Number | None:
        """The number before the tail that says its length, if that is how it is told."""
        kind = self.tail.type if self.tail is not None and self.tail.when is None else None
        return kind.prefix if isinstance(kind, Text) else None

    @property
    def measured(self) -> bool:
        """Whether the loop gives the tail's length."""
        return self.tail is not None and self.prefixed is None

    @property
    def ending(self) -> int:
        """The bytes of the zero that ends the tail and is no part of it."""
        kind = self.tail.type if self.tail is not None and self.tail.when is None else None
        return kind.zero if isinstance(kind, Text) else 0


def prefix_name(field: Field) -> str:
    return f"length of {field.name}"


def _dtype(kind: FieldType) -> str:
    return kind.dtype if isinstance(kind, Number | Float) else f"V{kind.fixed_size}"


def runs_of(block: Block) -> list[Run]:
    runs: list[Run] = []
    members: list[tuple[str, str]] = []
    fields: list[Field] = []
    for field in block.fields:
        if isinstance(field.type, InlineBytes | Bits):
            continue  # no part of the record: it lies behind it, or in another field
        if field.when is not None or field.type.fixed_size is None:
            if isinstance(field.type, Text) and field.type.prefix is not None and field.when is None:
                members.append((prefix_name(field), field.type.prefix.dtype))
            runs.append(Run(np.dtype(members), tuple(fields), field))
            members, fields = [], []
        else:
            members.append((field.name, _dtype(field.type)))
            fields.append(field)
    if members or not runs:
        runs.append(Run(np.dtype(members), tuple(fields), None))
    return runs


@dataclass
class _Lines:
    """The lines of a loop, and what its variables hold. `q` is where the record goes on, `fixed` bytes further."""

    lines: list[str] = dataclasses.field(default_factory=list)
    indent: int = 0
    fixed: int = 0
    names: dict[str, str] = dataclasses.field(default_factory=dict)  # field -> the variable with its number
    made: int = 0

    def add(self, *lines: str) -> None:
        self.lines += [" " * self.indent + line for line in lines]

    def flush(self) -> None:
        """Bring `q` up to where the record goes on."""
        if self.fixed:
            self.add(f"q += {self.fixed}")
            self.fixed = 0

    def variable(self) -> str:
        self.made += 1
        return f"v{self.made}"

    # what is asked later

    def remember(self, fields: tuple[Field, ...], one: Field, at: int) -> None:
        """Keep the numbers that later fields need of a field which starts `at` bytes from `q`."""
        wanted = _wanted(fields)
        if one.name in wanted and isinstance(one.type, Number | Raw):
            self.names[one.name] = name = self.variable()
            self.add(f"{name} = {_changed(one, _number(one.type, at))}")
        for part in fields:
            if isinstance(part.type, Bits) and part.type.host == one.name and part.name in wanted:
                assert isinstance(one.type, Number)
                self.names[part.name] = name = self.variable()
                mask = (1 << part.type.high - part.type.low + 1) - 1
                self.add(f"{name} = {_changed(part, f'(({_number(one.type, at)} >> {part.type.low}) & {mask})')}")

    # types

    def fields(self, fields: tuple[Field, ...]) -> None:
        """Go past a record within a record."""
        for field in fields:
            if isinstance(field.type, Bits):
                continue
            size = field.type.fixed_size if field.when is None else None
            if size is not None:
                self.remember(fields, field, self.fixed)
                self.fixed += size
            else:
                self.flush()
                self.field(fields, field)

    def field(self, fields: tuple[Field, ...], field: Field) -> None:
        """Go past a field of changing size, which starts at `q`."""
        if field.when is not None:
            self.add(f"if {field.when.emit(self.names[field.when.field])}:")
            self.indent += 1
            self.type(field.type)
            self.flush()
            self.add("pass")
            self.indent -= 1
        else:
            self.type(field.type, field if field.name in _wanted(fields) else None)
        self.flush()

    def type(self, kind: FieldType, asked: Field | None = None) -> None:
        """Go past something of a type; `asked` is the field whose number is needed later."""
        size = kind.fixed_size
        if size is not None:
            self.fixed += size
            return
        self.flush()
        if isinstance(kind, Text):
            self._text(kind)
        elif isinstance(kind, Varint):
            self._varint(kind, asked)
        elif isinstance(kind, Nested):
            self._inner(kind)
        elif isinstance(kind, ArrayType):
            self._array(kind)
        elif isinstance(kind, Choice):
            self._choice(kind)

    def _text(self, kind: Text) -> None:
        if kind.prefix is not None:
            length = self.variable()
            self.add(f"{length} = {_scaled(_number(kind.prefix, 0), kind)}", f"if {length} < 0: raise ValueError",
                     f"q += {kind.prefix.size + kind.zero} + {length}")  # fmt: skip
        elif kind.told:
            length = self.variable()
            self.add(
                f"{length} = {_scaled(self.names[kind.told], kind)}",
                f"if {length} < 0: raise ValueError",
                f"q += {length}",
            )
        elif kind.zero == 1:
            self.add("q = data.index(0, q) + 1")
        else:
            self.add(f"q = wide_zero(data, q, {kind.zero}) + {kind.zero}")

    def _varint(self, kind: Varint, asked: Field | None) -> None:
        self.add("b, n, s = data[q], 0, q")
        step = "n = n << 7 | b & 127" if kind.big else "n |= (b & 127) << 7 * (q - s)"
        self.add(
            "while b > 127:",
            f" {step}",
            " q += 1",
            f" if q - s >= {VARINT_BYTES}: raise ValueError",
            " b = data[q]",
            step,
            "q += 1",
        )
        if asked is not None:
            self.names[asked.name] = variable = self.variable()
            self.add(f"{variable} = {_changed(asked, 'n')}")

    def _inner(self, kind: Nested) -> None:
        outside, self.names = self.names, {}
        self.fields(kind.fields)
        self.flush()
        self.names = outside

    def _array(self, kind: ArrayType) -> None:
        count = str(kind.count) if isinstance(kind.count, int) else self.names[kind.count]
        size = kind.of.fixed_size
        if size is not None:
            self.add(f"q += {size} * {count}")
            return
        self.add(f"for _ in range({count}):")
        self.indent += 1
        self.type(kind.of)
        self.flush()
        self.indent -= 1

    def _choice(self, kind: Choice) -> None:
        word = "if"
        for (number, _), record in zip(kind.table, kind.records, strict=True):
            self.add(f"{word} {self.names[kind.by]} == {number}:")
            self.indent += 1
            self.type(record)
            self.flush()
            self.add("pass")
            self.indent -= 1
            word = "elif"
        self.add("else: raise ValueError")


def _wanted(fields: tuple[Field, ...]) -> set[str]:
    """The fields of a record whose numbers other fields of it need."""
    found = set()
    for field in fields:
        kind = field.type
        if isinstance(kind, Text) and kind.told:
            found.add(kind.told)
        elif isinstance(kind, ArrayType) and isinstance(kind.count, str):
            found.add(kind.count)
        elif isinstance(kind, Choice):
            found.add(kind.by)
        if field.when is not None:
            found.add(field.when.field)
    return found


def _number(kind: Number | Raw, at: int) -> str:
    """The number at `q + at`, as an expression."""
    if isinstance(kind, Number) and kind.size == 1 and not kind.signed:
        return f"data[q + {at}]"
    big, signed = (bool(kind.big), kind.signed) if isinstance(kind, Number) else (True, False)
    return f"int.from_bytes(data[q + {at}:q + {at + kind.size}], '{'big' if big else 'little'}', signed={signed})"


def _scaled(number: str, kind: Text) -> str:
    return number + (f" * {kind.unit}" if kind.unit != 1 else "") + (f" + {kind.extra}" if kind.extra else "")


def _changed(field: Field, expression: str) -> str:
    """The expression of a stored number with what the field's changes do to it."""
    for change in field.changes:
        expression = change.emit(expression)
    return expression


def _record(lines: _Lines, runs: list[Run], fields: tuple[Field, ...]) -> None:
    """The lines that go past one record from `q`, and tell the lengths of the tails that they measure."""
    for run in runs:
        offset = 0
        for field in run.fields:
            lines.remember(fields, field, lines.fixed + offset)
            offset += field.type.fixed_size or 0
        lines.fixed += run.size
        if run.tail is None:
            continue
        kind = run.tail.type
        if run.prefixed is not None:
            assert isinstance(kind, Text)
            _prefixed(lines, run.prefixed, kind)
        elif (
            isinstance(kind, Text) and kind.zero == 1 and run.tail.when is None
        ):  # the most common, so without a detour
            lines.add(f"z = data.index(0, q + {lines.fixed})", f"length(z - q - {lines.fixed})", "q = z + 1")
            lines.fixed = 0
        else:
            lines.flush()
            start = lines.variable()
            lines.add(f"{start} = q")
            lines.field(fields, run.tail)
            lines.add(f"length(q - {start} - {run.ending})")


def _prefixed(lines: _Lines, prefix: Number, kind: Text) -> None:
    """Go past a text whose length stands in the bytes just before it."""
    if kind.unit == 1 and not kind.extra:
        lines.add(f"q += {_prefix_value(prefix, lines.fixed)} + {lines.fixed}")
    else:
        length = lines.variable()
        lines.add(f"{length} = {_scaled(f'({_prefix_value(prefix, lines.fixed)})', kind)}", f"if {length} < 0: raise ValueError",
                  f"q += {length} + {lines.fixed}")  # fmt: skip
    lines.fixed = kind.zero


def compile_walk(runs: list[Run], fields: tuple[Field, ...]) -> Walk:
    """A loop that appends each record's start, and the length of each tail that needs measuring.

    It takes the bytes, a position, how many records are wanted, and the two lists; it stops before a
    record that is not whole, and gives back the position that it reached. Running past the end is told by
    an exception, not by a test a record: the loop is the only thing that is done once for every record.
    """
    lines = _Lines(["def walk(data, p, wanted, starts, lengths):", " found, length = starts.append, lengths.append",
                    " try:", "  for _ in range(wanted):", "   found(p)", "   q = p"], 3)  # fmt: skip
    _record(lines, runs, fields)
    measured = sum(run.measured for run in runs)
    lines.lines += [f"   p = q + {lines.fixed}", " except (IndexError, ValueError):", "  p = starts.pop()",
                    " while p > len(data):", "  p = starts.pop()", f" del lengths[len(starts) * {measured}:]", " return p"]  # fmt: skip
    walk: Walk = _made(lines.lines)
    return walk


def compile_inline_walk(
    runs: list[Run], fields: tuple[Field, ...], stored: Field, align: int, content_align: int
) -> InlineWalk:
    """A loop over records that are each followed by their content, which it passes over.

    It takes a window of the file and where that begins, how many records are wanted, the lists for starts and ends
    (in the file) and for the lengths of tails, and the mark that ends the records. It gives back how far it came,
    perhaps past the window, and whether it met the mark. It stops before a record that is not whole.
    """
    lines = _Lines(["def walk(data, base, wanted, starts, ends, lengths, mark):", " end, p = len(data), 0", " while wanted > 0:",
                    f"  p += -(p + base) % {align}", "  if p >= end: return p, False",
                    "  if mark and p + len(mark) > end: return p, False", "  if mark and data.startswith(mark, p): return p, True",
                    "  q, told = p, []", "  length = told.append", "  try:"], 3)  # fmt: skip
    needing = (*fields, _asking(stored))  # as if a field needed the number
    _record(lines, runs, needing)
    lines.flush()
    lines.lines += ["  except (IndexError, ValueError): return p, False", "  if q > end: return p, False", f"  n = {lines.names[stored.name]}",
                    "  if n < 0: return p, False", "  starts.append(p + base)", "  ends.append(q + base)", "  lengths += told",
                    f"  p = q + -(q + base) % {content_align} + n", "  wanted -= 1", " return p, False"]  # fmt: skip
    walk: InlineWalk = _made(lines.lines)
    return walk


def _asking(field: Field) -> Field:
    """A field of no bytes that needs the number of another."""
    return Field("", ArrayType(Raw(0), field.name), (), field.meaning, "", field.place)


def _made(lines: list[str]) -> Any:
    """The function `walk` that these lines define."""
    scope: dict[str, Any] = {"wide_zero": wide_zero}
    exec("\n".join(lines), scope)
    return scope["walk"]


def wide_zero(data: bytes, start: int, width: int) -> int:
    """Where a zero of `width` bytes stands, counted in such units from `start`; ValueError when none does."""
    at = data.index(bytes(width), start)
    while (at - start) % width:
        at = data.index(bytes(width), at + 1)
    return at


def _prefix_value(prefix: Number, end: int) -> str:
    """The number whose last byte stands before `q + end`, as an expression."""
    size = prefix.size
    shifts = range(size - 1, -1, -1) if prefix.big else range(size)
    offsets = [end - size + place for place in range(size)]
    places = [
        f"data[q + {offset}]" if offset > 0 else f"data[q - {-offset}]" if offset else "data[q]" for offset in offsets
    ]
    return " + ".join(
        f"({place} << {8 * shift})" if shift else place for place, shift in zip(places, shifts, strict=True)
    )
