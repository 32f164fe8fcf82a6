"""Checksums over content that the records around it store, verified while it is read."""

from __future__ import annotations

from volvex.archive.archive import Check
from volvex.codec import CHECKSUM
from volvex.layout.expression import sums_over_content
from volvex.layout.model import Block, Computed, Field
from volvex.layout.read.blocks import Reading
from volvex.layout.read.facts import Record, known_facts
from volvex.layout.read.frames import content_sum_fields, expect_value, frame_values, read_columns


class _FrameCheck:
    stored = False  # the check of a layout allows no other

    def __init__(self, reading: Reading, row: int, block: Block, field: Field) -> None:
        assert isinstance(field.meaning, Computed)
        self._reading, self._row, self._block, self._field = reading, row, block, field
        self._key = sums_over_content(field.meaning.value)[0]
        self._total = CHECKSUM.get(self._key[0]).new()

    def update(self, data: bytes) -> None:
        self._total.update(data)

    def finish(self) -> None:
        of, row = self._reading.entries, self._row
        assert of is not None
        columns = read_columns(self._reading, row, self._block.name)
        facts = known_facts(int(of.start[row]), int(of.size[row]), int(of.bare[row]), row)
        outer = Record.of(self._reading, row).scope(facts, of.names.raw(row))
        wanted = frame_values(self._block, columns, outer, {self._key: self._total.value()})
        at = int(of.start[row])
        expect_value(self._reading, self._block, self._field, columns, wanted[self._field.name], at)


def frame_checks(reading: Reading, row: int) -> list[Check]:
    """The checks of an entry's content against what stands around it."""
    return [_FrameCheck(reading, row, block, field) for block, field in content_sum_fields(reading.layout)]
