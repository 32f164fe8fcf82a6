"""A block's fields as runs, and the generated loops that find where records of changing size start.

A run is members of fixed size, with a text of variable size after each but the last; a prefix that says a text's
length is the last member of the run before it. The loops' text is made of integers alone, so no layout can put code
into it; they touch only what decides a record's length.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.layout.model import Block, Field, Here, Number, Raw, Text

Walk = Callable[[bytes, int, int, list[int], list[int]], int]
InlineWalk = Callable[[bytes, int, int, list[int], list[int], list[int], bytes], tuple[int, bool]]


@dataclass(frozen=True)
class Run:
    """Members of fixed size, and the text after them."""

    dtype: np.dtype[Any]
    fields: tuple[Field, ...]
    text: Field | None

    @property
    def size(self) -> int:
        return int(self.dtype.itemsize)


def prefix_name(field: Field) -> str:
    return f"length of {field.name}"


def _member(field: Field) -> tuple[str, str]:
    kind = field.type
    if isinstance(kind, Number):
        return field.name, kind.dtype
    assert isinstance(kind, Raw | Text)
    return field.name, f"V{kind.size}"


def runs_of(block: Block) -> list[Run]:
    runs: list[Run] = []
    members: list[tuple[str, str]] = []
    fields: list[Field] = []
    for field in block.fields:
        if isinstance(field.type, Here):
            continue  # no part of the record: it lies behind it
        if isinstance(field.type, Text) and field.type.size is None:
            if field.type.prefix is not None:
                members.append((prefix_name(field), field.type.prefix.dtype))
            runs.append(Run(np.dtype(members), tuple(fields), field))
            members, fields = [], []
        else:
            members.append(_member(field))
            fields.append(field)
    if members or not runs:
        runs.append(Run(np.dtype(members), tuple(fields), None))
    return runs


def zero_end(run: Run) -> int:
    """1 when the run's text ends at a zero byte."""
    return int(run.text is not None and isinstance(run.text.type, Text) and run.text.type.prefix is None)


def compile_walk(runs: list[Run]) -> Walk:
    """A loop that appends each record's start, and the length of each text that ends at a zero.

    It takes the bytes, a position, how many records are wanted, and the two lists; it stops before a
    record that is not whole, and gives back the position that it reached. Running past the end is told by
    an exception, not by a test a record: the loop is the only thing that is done once for every record.
    """
    lines = [
        "def walk(data, p, wanted, starts, zeros):",
        " found, zero = starts.append, zeros.append",
        " try:",
        "  for _ in range(wanted):",
    ]
    lines += ["   found(p)", "   q = p"]
    ended = fixed = 0
    for run in runs:
        fixed += run.size
        if run.text is None:
            continue
        assert isinstance(run.text.type, Text)
        if run.text.type.prefix is None:
            lines += [f"   z = data.index(0, q + {fixed})", f"   zero(z - q - {fixed})", "   q = z + 1"]
            ended, fixed = ended + 1, 0
        else:
            lines.append(f"   q += {_prefix_value(run.text.type.prefix, fixed)} + {fixed}")
            fixed = 0
    lines += [f"   p = q + {fixed}", " except (IndexError, ValueError):", "  p = starts.pop()",
              " while p > len(data):", "  p = starts.pop()", f" del zeros[len(starts) * {ended}:]", " return p"]  # fmt: skip
    walk: Walk = _made(lines)
    return walk


def compile_inline_walk(runs: list[Run], stored: Field, align: int, content_align: int) -> InlineWalk:
    """A loop over records that are each followed by their content, which it passes over.

    It takes a window of the file and where that begins, how many records are wanted, the lists for starts and ends
    (in the file) and for the lengths of texts that end at a zero, and the mark that ends the records. It gives back how
    far it came, perhaps past the window, and whether it met the mark. It stops before a record that is not whole.
    """
    lines = ["def walk(data, base, wanted, starts, ends, zeros, mark):", " end, p = len(data), 0", " while wanted > 0:",
             f"  p += -(p + base) % {align}", "  if p >= end: return p, False",
             "  if mark and p + len(mark) > end: return p, False", "  if mark and data.startswith(mark, p): return p, True", "  q, z = p, []"]  # fmt: skip
    for run in runs:
        lines += ["  r = q", f"  q += {run.size}", "  if q > end: return p, False"]
        if stored in run.fields and run.dtype.fields is not None:
            assert isinstance(stored.type, Number)
            at, order = int(run.dtype.fields[stored.name][1]), "big" if stored.type.big else "little"
            lines.append(
                f"  n = int.from_bytes(data[r + {at}:r + {at + stored.type.bits // 8}], '{order}', signed={stored.type.signed})"
            )
            signs = {"times": "*", "plus": "+", "xor": "^"}
            lines += [f"  n = n {signs[change.how]} {int(change.number)}" for change in stored.changes]
        if run.text is None:
            continue
        assert isinstance(run.text.type, Text)
        if run.text.type.prefix is None:
            lines += ["  e = data.find(0, q)", "  if e < 0: return p, False", "  z.append(e - q)", "  q = e + 1"]
        else:
            lines += [f"  q += {_prefix_value(run.text.type.prefix, 0)}", "  if q > end: return p, False"]
    lines += ["  if n < 0: return p, False", "  starts.append(p + base)", "  ends.append(q + base)", "  zeros += z",
              f"  p = q + -(q + base) % {content_align} + n", "  wanted -= 1", " return p, False"]  # fmt: skip
    walk: InlineWalk = _made(lines)
    return walk


def _made(lines: list[str]) -> Any:
    """The function `walk` that these lines define."""
    scope: dict[str, Any] = {}
    exec("\n".join(lines), scope)
    return scope["walk"]


def _prefix_value(prefix: Number, end: int) -> str:
    """The number whose last byte stands before `q + end`, as an expression."""
    size = prefix.bits // 8
    shifts = range(size - 1, -1, -1) if prefix.big else range(size)
    offsets = [end - size + place for place in range(size)]
    places = [
        f"data[q + {offset}]" if offset > 0 else f"data[q - {-offset}]" if offset else "data[q]" for offset in offsets
    ]
    return " + ".join(
        f"({place} << {8 * shift})" if shift else place for place, shift in zip(places, shifts, strict=True)
    )
