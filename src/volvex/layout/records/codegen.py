"""A block's fields as runs, and the generated loops that find where records of changing size start.

A run is members of fixed size, and a tail whose size changes: a text, a number of as many bytes as it needs, an array,
a choice, or anything that is there only sometimes. A prefix that says a text's length is the last member of the run
before it. The loops' text is made of integers alone, so no layout can put code into it; they touch only what decides a
record's length.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.layout.model import ArrayType, Block, Field, Number, Raw, Text
from volvex.layout.types._base import Loop, wanted_numbers
from volvex.layout.types.text import wide_zero

Walk = Callable[[bytes, int, int, list[int], list[int]], int]
InlineWalk = Callable[[bytes, int, int, list[int], list[int], list[int], bytes, int], tuple[int, bool]]


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
        return kind.prefix if isinstance(kind, Text) and isinstance(kind.prefix, Number) and not kind.whole else None

    @property
    def measured(self) -> bool:
        """Whether the loop gives the tail's length."""
        return self.tail is not None and self.prefixed is None

    @property
    def ending(self) -> int:
        """The bytes of the zero that ends the tail and is no part of it."""
        return self.tail.type.ending if self.tail is not None and self.tail.when is None else 0


def prefix_name(field: Field) -> str:
    return f"length of {field.name}"


def runs_of(block: Block) -> list[Run]:
    runs: list[Run] = []
    members: list[tuple[str, str]] = []
    fields: list[Field] = []
    for field in block.fields:
        if not field.type.in_record:
            continue  # no part of the record: it lies behind it, or in another field
        if field.when is not None or field.type.fixed_size is None:
            prefix = Run(np.dtype([]), (), field).prefixed
            if prefix is not None:
                members.append((prefix_name(field), prefix.dtype))
            runs.append(Run(np.dtype(members), tuple(fields), field))
            members, fields = [], []
        else:
            members.append((field.name, field.type.dtype))
            fields.append(field)
    if members or not runs:
        runs.append(Run(np.dtype(members), tuple(fields), None))
    return runs


def _record(lines: Loop, runs: list[Run], fields: tuple[Field, ...]) -> None:
    """The lines that go past one record from `q`, and tell the lengths of the tails that they measure."""
    wanted = wanted_numbers(fields)
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
            _prefixed(lines, run.prefixed, kind, run.tail.name if run.tail.name in wanted else "")
        elif (
            isinstance(kind, Text) and kind.ending == 1 and run.tail.when is None
        ):  # the most common, so without a detour
            lines.add(f"z = data.index(0, q + {lines.fixed})", f"length(z - q - {lines.fixed})")
            if run.tail.name in wanted:
                lines.names[run.tail.name] = lines.variable(f"data[q + {lines.fixed}:z]")
            lines.add("q = z + 1")
            lines.fixed = 0
        else:
            lines.flush()
            start = lines.variable("q")
            lines.field(fields, run.tail)
            lines.add(f"length(q - {start} - {run.ending})")


def _prefixed(lines: Loop, prefix: Number, kind: Text, name: str) -> None:
    """Go past a text whose length stands in the bytes just before it; `name` when later fields need its bytes."""
    length = kind.emit_length(lines, _prefix_value(prefix, lines.fixed))
    if name:
        length = lines.variable(length)
        lines.names[name] = lines.variable(f"data[q + {lines.fixed}:q + {lines.fixed} + {length}]")
    lines.add(f"q += {length} + {lines.fixed}")
    lines.fixed = kind.ending


def compile_walk(runs: list[Run], fields: tuple[Field, ...]) -> Walk:
    """A loop that appends each record's start, and the length of each tail that needs measuring.

    It takes the bytes, a position, how many records are wanted, and the two lists; it stops before a
    record that is not whole, and gives back the position that it reached. Running past the end is told by
    an exception, not by a test a record: the loop is the only thing that is done once for every record.
    """
    lines = Loop(
        [
            "def walk(data, p, wanted, starts, lengths):",
            " found, length = starts.append, lengths.append",
            " try:",
            "  for _ in range(wanted):",
            "   found(p)",
            "   q = p",
        ],
        3,
    )
    _record(lines, runs, fields)
    measured = sum(run.measured for run in runs)
    lines.lines += [
        f"   p = q + {lines.fixed}",
        " except (IndexError, ValueError):",
        "  p = starts.pop()",
        " while p > len(data):",
        "  p = starts.pop()",
        f" del lengths[len(starts) * {measured}:]",
        " return p",
    ]
    walk: Walk = _made(lines.lines)
    return walk


def compile_inline_walk(
    runs: list[Run], fields: tuple[Field, ...], stored: Field, align: int, content_align: int
) -> InlineWalk:
    """A loop over records that are each followed by their content, which it passes over.

    It takes a window of the file and where that begins, how many records are wanted, the lists for starts and ends (in
    the file) and for the lengths of tails, the mark that ends the records, and where the first record is, which need
    not be aligned. It gives back how far it came, perhaps past the window, and whether it met the mark. It stops before
    a record that is not whole.
    """
    lines = Loop(
        [
            "def walk(data, base, wanted, starts, ends, lengths, mark, first):",
            " end, p = len(data), 0",
            " while wanted > 0:",
            f"  if p + base != first: p += -(p + base) % {align}",
            "  if p >= end: return p, False",
            "  if mark and p + len(mark) > end: return p, False",
            "  if mark and data.startswith(mark, p): return p, True",
            "  q, told = p, []",
            "  length = told.append",
            "  try:",
        ],
        3,
    )
    needing = (*fields, _asking(stored))  # as if a field needed the number
    _record(lines, runs, needing)
    lines.flush()
    lines.lines += [
        "  except (IndexError, ValueError): return p, False",
        "  if q > end: return p, False",
        f"  n = {lines.names[stored.name]}",
        "  if n < 0: return p, False",
        "  starts.append(p + base)",
        "  ends.append(q + base)",
        "  lengths += told",
        f"  p = q + -(q + base) % {content_align} + n",
        "  wanted -= 1",
        " return p, False",
    ]
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
