"""How much a reading of a file says against chance, in bits: for formats without a signature, whose counts fit many
files.

A file of zeros has fitting counts, and one of noise has some fitting offsets. What chance does not give: different
entries that lie within the file, one behind the other, readable names, constants, stored checksums that are right.
"""

from __future__ import annotations

import math

import numpy as np

from volvex.archive.layout_archive import LayoutArchive
from volvex.errors import VolvexError
from volvex.layout.model import Constant

ENOUGH = 64.0  # bits from which on a claim is made: a dozen layouts are tried on each of thousands of files
MOST_ROWS = 512  # entries that are looked at
SUMMED = 16  # entries whose content is decoded for its checksum
A_LETTER = 1.4  # bits that a readable byte says: 96 of 256 are


def evidence(archive: LayoutArchive) -> float:
    """The bits against chance of an archive that was opened by its layout."""
    entries, room = archive.entries, max(2, archive.reading.source.size)
    start, stored = entries.start[:MOST_ROWS], entries.stored[:MOST_ROWS]
    told = stored > 0
    pairs = np.unique(np.stack([start[told], stored[told]], axis=1), axis=0)
    within = max(0.0, 32 - math.log2(room))  # a random number of 32 bits is seldom so small
    bits = 2 * within * len(pairs)
    behind = int(((pairs[1:, 0] - pairs[:-1].sum(axis=1)) == 0).sum()) if len(pairs) else 0
    bits += behind * math.log2(room)
    bits += sum(A_LETTER * len(name) for name in set(archive.names[:MOST_ROWS]) if _is_readable(name))
    return bits + _constants(archive) + _checksums(archive)


def _is_readable(name: str) -> bool:
    return len(name) > 1 and name.isprintable() and name.isascii()


def _constants(archive: LayoutArchive) -> float:
    """The bits of constants that were found, but for zeros, which files are full of."""
    total = 0
    for block in archive.reading.blocks.values():
        for field in block.block.fields:
            if isinstance(field.meaning, Constant) and field.when is None:
                value = field.meaning.value
                size = len(value.strip(b"\0")) if isinstance(value, bytes) else (value.bit_length() + 7) // 8
                total += 8 * size * min(len(block.starts), MOST_ROWS)
    return float(total)


def _checksums(archive: LayoutArchive) -> float:
    """The bits of checksums of contents that are right; a wrong one takes all of it away."""
    stored = archive.reading.content_checksums()
    if not stored:
        return 0.0
    total = 0.0
    for row in range(min(SUMMED, len(archive))):
        try:
            if archive.entries.size[row] and archive.entries.size[row] <= 1 << 20:
                archive.content(row)
                total += 32.0
        except VolvexError:
            return -math.inf
    return total
