"""A file read by its layout: blocks found, checked, and the entries made of them."""

from __future__ import annotations

from volvex.layout.entries import Entries
from volvex.layout.model import Computed, Layout
from volvex.layout.read.blocks import Reading
from volvex.layout.read.entries import check_entries, entries_of, volume_numbers
from volvex.layout.read.locate import locate, read_beside
from volvex.layout.read.verify import verify_blocks
from volvex.layout.volumes import open_volumes
from volvex.source import Beside, Source


def read(layout: Layout, source: Source, beside: Beside | None = None, lenient: bool = False) -> Reading:
    """Read a file's blocks and check all that can be checked without its content.

    FormatError names the first field that is not what the layout says. `beside` finds the files in which content lies
    that is not in this one; without it, the source's own. With `lenient`, entries may reach past the end of the file.
    """
    reading = locate(layout, source)
    beside = beside or source.beside
    try:
        verify_blocks(reading)
        if layout.kind != "archive":
            reading.beside = read_beside(reading, beside)
            reading.entries = Entries.none()
            _verify_computed(reading)
            return reading
        if layout.content.volumes:
            reading.volumes, reading.joined = open_volumes(
                layout.content.volumes, source, volume_numbers(reading), beside
            )
        reading.entries = entries_of(reading)
        check_entries(reading, reading.entries, lenient)
        _verify_computed(reading)
    except BaseException:
        reading.let_go()
        raise
    return reading


def _verify_computed(reading: Reading) -> None:
    if any(isinstance(field.meaning, Computed) for block in reading.layout.blocks for field in block.fields):
        from volvex.layout.read.computed import verify_computed  # few layouts have expressions

        verify_computed(reading)
