"""Records that are no entries, put back between those that are."""

from __future__ import annotations

import bisect

from volvex.layout.columns import Array, Columns
from volvex.layout.read.blocks import BlockRead


def skipped_size(block: BlockRead) -> int:
    """The bytes that they take."""
    return sum(len(record.data) for record in block.skipped)


def with_skipped(block: BlockRead, columns: Columns, kept_rows: Array, numbers: Array) -> bytes:
    """A block's bytes with them: each behind the entry behind which it stood, or behind the nearest before that is left.

    `kept_rows` are the old rows that are left, `numbers` where each old row stands now. Those at the end stay there.
    """
    rows = [b"".join(parts) for parts in zip(*block.records.pieces(columns), strict=True)]
    behind: dict[int, list[bytes]] = {}
    kept, last = kept_rows.tolist(), len(block.starts) - 1
    for record in block.skipped:
        place = bisect.bisect_right(kept, record.behind) - 1
        number = len(rows) - 1 if record.behind >= last else int(numbers[kept[place]]) if place >= 0 else -1
        behind.setdefault(number, []).append(record.data)
    out = list(behind.get(-1, ()))
    for number, row in enumerate(rows):
        out += [row, *behind.get(number, ())]
    return b"".join(out)
