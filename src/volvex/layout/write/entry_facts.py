"""What is known of the entries of a directory that is being written, in its new order."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from volvex.layout.columns import Array
from volvex.layout.kinds import archive as attributes
from volvex.layout.write.contents import ContentPlan
from volvex.layout.write.plan import Edit

Changed = list[tuple[int, int]]  # rows, before they are ordered, whose content is new, and which it is


@dataclass(frozen=True)
class EntryFacts:
    """Facts as columns; `order` says which row stands where, `placed` where contents start and end, ordered."""

    contents: ContentPlan
    edit: Edit
    order: Array | None
    placed: tuple[Array, Array]
    changed: Changed
    stored: Callable[[Changed], Array]  # the stored sizes, before they are ordered

    def _ordered(self, column: Array) -> Array:
        return column if self.order is None else column[self.order]

    @property
    def _count(self) -> int:
        return len(self.contents.kept_rows) + len(self.edit.added)

    def of(self, what: str) -> Array:
        """A fact of all entries."""
        if what == attributes.OWN_NUMBER:
            return np.arange(self._count)
        if what in (attributes.START, attributes.END):
            return self.placed[what == attributes.END]
        if what == attributes.STORED:
            return self._ordered(self._bare())
        sizes = np.zeros(self._count, np.int64)
        sizes[: len(self.contents.kept_rows)] = self.contents.entries.size[self.contents.kept_rows]
        for row, index in self.changed:
            sizes[row] = self.contents.new[index].size
        return self._ordered(sizes)

    def _bare(self) -> Array:
        """The stored sizes without what stands around the contents."""
        sizes, framed = self.stored(self.changed), self.contents.entries.framed
        if framed is None:
            return sizes
        around = np.zeros(self._count, np.int64)
        around[: len(self.contents.kept_rows)] = framed[self.contents.kept_rows]
        for row, index in self.changed:
            around[row] = self.contents.frame_size(index)
        return sizes - around

    def names(self) -> tuple[list[bytes], str]:
        """The names, and their encoding."""
        names = self.contents.entries.names
        raws = names.take(self.contents.kept_rows).raws() + [added.name for added in self.edit.added]
        return raws if self.order is None else [raws[row] for row in self.order.tolist()], names.encoding

    def content_sums(self, algorithm: str, part: str) -> tuple[Array, Array]:
        """A checksum over all contents, and for which rows it is known."""
        contents, key = self.contents, (algorithm, part)
        sums, known = np.zeros(self._count, object), np.zeros(self._count, bool)
        for row, index in self.changed:
            sums[row], known[row] = contents.checksums_of(index, contents.new[index])[key], True
        for row, span in enumerate(contents.part_of_row[contents.kept_rows].tolist()):
            moved = contents.span_checksums.get(span, {})
            if key in moved and not known[row]:
                sums[row], known[row] = moved[key], True
        return self._ordered(sums), np.flatnonzero(self._ordered(known))
