"""Pools of bytes: what in them no entry's name reaches, when starts or lengths may be counted in other units."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from volvex.layout.inspect.hints._hint import Hint
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import is_bare, pooled_length
from volvex.layout.read.blocks import Reading

POINTING = (attributes.NAME_AT, attributes.FOLDER_NAME_AT, attributes.TYPE_NAME_AT)


def hints(reading: Reading) -> Iterator[Hint]:
    pool = reading.pool()
    if pool is None or not is_bare(pool[1]) or not len(pool[0].data):
        return
    reached = np.zeros(len(pool[0].data) + 1, np.int64)
    for what in POINTING:
        found = reading.attribute(what)
        length = pooled_length(found[0].block, found[1]) if found is not None else None
        if found is None or length is None:
            continue
        starts, sizes = reading.decode_numbers(*found), reading.decode_numbers(found[0], length)
        np.add.at(reached, starts, 1)
        np.add.at(reached, starts + sizes, -1)
    left = int(np.count_nonzero(np.cumsum(reached[:-1]) == 0))
    if left:
        name = pool[0].block.name
        yield Hint(
            name,
            f"{left:,} of the {len(pool[0].data):,} bytes of {name} are in no name",
            "other units: `u16 x 2  start of name`, or `kept` for what else points there",
        )
