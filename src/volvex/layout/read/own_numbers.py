"""What a record stores about itself: its number, its length, where it starts, and where the next one does."""

from __future__ import annotations

import numpy as np

from volvex.errors import FormatError
from volvex.layout.columns import Array
from volvex.layout.kinds import archive as attributes
from volvex.layout.read.blocks import BlockRead, Reading


def own_numbers(what: str, starts: Array, sizes: Array, last: int) -> Array:
    """The numbers of all records, from where each starts and its size; `last` is what the last one stores as the start
    of the next."""
    if what in (attributes.OWN_NUMBER, attributes.OWN_LENGTH):
        return np.arange(len(starts)) if what == attributes.OWN_NUMBER else sizes
    return starts if what == attributes.OWN_START else np.append(starts[1:], last)[: len(starts)]


def record_sizes(block: BlockRead) -> Array:
    """The bytes of each record of a row, without the content behind it."""
    starts = block.starts.astype(np.int64)
    return (np.append(starts, block.end)[1:] if block.ends is None else block.ends) - starts


def stores_row_end(block: BlockRead, value: int) -> bool:
    """Whether the last record stores the end of its row as the start of the next, and not a number that means none."""
    return value in (block.end, block.end + -block.end % block.block.align)


def check_own_numbers(reading: Reading) -> None:
    """FormatError for the first record that stores something else about itself than it is."""
    for what in attributes.OWN:
        for block, field in reading.attributes(what):
            found = reading.decode_numbers(block, field)
            wanted = own_numbers(
                what, block.starts.astype(np.int64), record_sizes(block), int(found[-1]) if len(found) else 0
            )
            wrong = np.flatnonzero(found != wanted)
            if len(wrong):
                row = int(wrong[0])
                raise FormatError(
                    block.source.name,
                    f"it gives {int(found[row]):#x} as the {what}, which is {int(wanted[row]):#x}",
                    offset=block.offset(row, field.name),
                    field=block.where(row, field.name),
                    asked="another meaning, or `kept`",
                )
