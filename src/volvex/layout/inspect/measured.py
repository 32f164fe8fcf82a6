"""What can be measured in a file, as a layout says it: counts, lengths, places, sums over records."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from volvex.layout.kinds import archive as attributes
from volvex.layout.model import CONTENTS
from volvex.layout.read.blocks import BlockRead, Reading


def measures(reading: Reading, own: BlockRead) -> Iterator[tuple[str, int]]:
    """Each measurement that a field of the block `own` could hold, in words, and how much it is."""
    yield "length of file", reading.source.size
    within = own.block.within
    for name, block in reading.blocks.items():
        if block is own:
            continue
        if block.block.repeats:
            yield f"count of {name}", len(block.starts) + len(block.skipped)
        if block.ends is not None:
            continue
        if block.block.within == within:
            yield f"start of {name}", block.start
            yield f"end of {name}", block.end
        yield f"length of {name}", len(block.data)
    for name, area in reading.areas.items():
        yield f"start of {name}", area.start
        yield f"end of {name}", area.start + area.stored
        yield f"stored length of {name}", area.stored
        yield f"length of {name}", area.source.size
    yield from _of_contents(reading)


def _of_contents(reading: Reading) -> Iterator[tuple[str, int]]:
    entries = reading.entries
    if entries is None or not len(entries):
        return
    for what in (attributes.SIZE, attributes.STORED):
        found = reading.attribute(what)
        if found is not None and found[0].block.repeats and len(found[0].starts):
            numbers = reading.decode_numbers(*found)
            yield f"total of {found[0].block.name}.{found[1].name}", int(numbers.sum())
            yield f"{found[0].block.name}.{found[1].name} at 0", int(numbers[0])
            yield f"largest of {found[0].block.name}.{found[1].name}", int(numbers.max())
    there = entries.stored > 0
    if there.any() and not reading.volumes:
        first, last = int(entries.start[there].min()), int((entries.start + entries.stored)[there].max())
        yield f"start of {CONTENTS}", first
        yield f"length of {CONTENTS}", last - first


def paths_in(raw: bytes) -> int:
    """How many texts that look like paths or names of files lie in some bytes: letters with a dot or a slash within."""
    texts, run = 0, bytearray()
    for byte in np.frombuffer(raw + b"\0", np.uint8).tolist():
        if 0x20 < byte < 0x7F:
            run.append(byte)
            continue
        if len(run) >= 4 and any(mark in run[1:-1] for mark in b"./\\"):
            texts += 1
        run.clear()
    return texts
