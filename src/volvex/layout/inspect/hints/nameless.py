"""Records that look like no entries: without a name and without content."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from volvex.layout.inspect.hints._hint import Hint
from volvex.layout.kinds import archive as attributes
from volvex.layout.read.blocks import Reading
from volvex.layout.read.names import own_names

LEAST = 8  # records: of fewer one may be empty by chance


def hints(reading: Reading) -> Iterator[Hint]:
    entries, found = reading.entries, reading.attribute(attributes.NAME)
    names = own_names(reading) if entries is not None and found is not None else None
    if entries is None or names is None or found is None or len(names) != len(entries):
        return
    empty = np.flatnonzero((names.lengths == 0) & (entries.stored == 0))
    if len(empty) and len(empty) < len(entries):
        block = found[0].block.name
        yield Hint(
            block,
            f"{len(empty):,} of {len(entries):,} records have neither a name nor content",
            f'block {block} ... except {found[1].name} is ""',
        )
    elif _ends_row(reading):
        block, name = found[0].block.name, names.raw(len(names) - 1).decode(names.encoding, "backslashreplace")
        yield Hint(
            block,
            f"the last record, {name!r}, is the only one without content, and starts where all content ends: it may "
            f"be no entry",
            f'block {block} ... except {found[1].name} is "{name}"',
        )


def _ends_row(reading: Reading) -> bool:
    """Whether the last record alone is empty and gives the end of all content, of which nothing else says where it
    ends."""
    entries = reading.entries
    if entries is None or not reading.layout.content.until_next or len(entries) < LEAST:
        return False
    ends = entries.start + entries.stored
    return not entries.stored[-1] and bool(entries.stored[:-1].all()) and int(entries.start[-1]) == int(ends[:-1].max())
