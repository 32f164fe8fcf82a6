"""Records that are no entries, put back between those that are, with the places that they store."""

from __future__ import annotations

import bisect
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

import numpy as np

from volvex.layout.columns import Array, Columns
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Field, IntegerType
from volvex.layout.read.blocks import BlockRead, Reading, Skipped

Renewed = Callable[[Skipped, int], bytes]


def skipped_size(block: BlockRead) -> int:
    """The bytes that they take."""
    return sum(len(record.data) for record in block.skipped)


def with_skipped(
    block: BlockRead, columns: Columns, kept_rows: Array, numbers: Array, last: int, renewed: Renewed
) -> bytes:
    """A block's bytes with them: each behind the entry behind which it stood, or behind the nearest before that is
    left.

    `kept_rows` are the old rows that are left, `numbers` where each old row stands now. Those behind the old row `last`
    stay at the end. `renewed` gives the bytes of a record that stands behind the entry of a new row (-1: before all).
    """
    rows = [b"".join(parts) for parts in zip(*block.records.pieces(columns), strict=True)]
    behind: dict[int, list[bytes]] = {}
    kept = kept_rows.tolist()
    for record in block.skipped:
        place = bisect.bisect_right(kept, record.behind) - 1
        number = len(rows) - 1 if record.behind >= last else int(numbers[kept[place]]) if place >= 0 else -1
        behind.setdefault(number, []).append(renewed(record, number))
    out = list(behind.get(-1, ()))
    for number, row in enumerate(rows):
        out += [row, *behind.get(number, ())]
    return b"".join(out)


@dataclass(frozen=True)
class Places:
    """Where contents lie: start and end of each in the order of the records, where the last ends, and how long the file
    is."""

    starts: Array
    ends: Array
    last: int
    size: int

    def of(self, anchor: str, row: int) -> int:
        """The place that a record behind an entry's row stores."""
        if anchor == "next" and row + 1 < len(self.starts):
            return int(self.starts[row + 1])
        if anchor == "end" and row >= 0:
            return int(self.ends[row])
        return self.size if anchor == "size" else self.last


def places_of(reading: Reading) -> Places:
    """The places of an archive as it was read."""
    entries = reading.entries
    assert entries is not None
    count = len(entries) - reading.blanks
    starts, ends = entries.start[:count], (entries.start + entries.stored)[:count]
    return Places(starts, ends, int(ends.max()) if count else -1, reading.content_source.size)


def stored_places(reading: Reading, block: BlockRead, record: Skipped) -> Iterator[tuple[Field, int, str]]:
    """The places that a record stores which is no entry: the field, the number, and what lies there.

    That is the content of the `next` entry, the `end` of the one before, the end of the `last` of all, the end of the
    file (`size`), or nothing that is known. Zero and the highest number of the field mean no place.
    """
    own = replace(block, columns=record.columns, starts=np.array([record.start]))
    places = places_of(reading)
    last = record.behind == len(places.starts) - 1
    for field in block.block.fields:
        if getattr(field.meaning, "what", "") not in (attributes.START, attributes.END) or not own.present(field)[0]:
            continue
        stored, value = int(own.numbers(field.name)[0]), int(reading.decode_numbers(own, field)[0])
        if stored in (0, -1) or (isinstance(field.type, IntegerType) and stored == field.type.limits[1]):
            continue
        asked = ("last", "size") if last else ("next", "end", "last", "size")
        yield field, value, next((anchor for anchor in asked if places.of(anchor, record.behind) == value), "")
