"""Records that look like no entries: without a name and without content."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from volvex.layout.inspect.hints._hint import Hint
from volvex.layout.kinds import archive as attributes
from volvex.layout.read.blocks import Reading
from volvex.layout.read.names import own_names


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
