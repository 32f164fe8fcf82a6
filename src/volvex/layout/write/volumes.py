"""Placing content that lies in volumes: each of them by itself, and only those in which something changes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from volvex.layout.read.entries import volume_of
from volvex.layout.write.contents import ContentPlan
from volvex.layout.write.place import Contents, Placed, Placer
from volvex.layout.write.plan import Piece

VOLUMES = "volumes"  # in the place of the part that holds the content


class VolumePlacer:
    """Places the contents of one volume; places count from its start."""

    def __init__(self, contents: ContentPlan, index: int, each: bool) -> None:
        self.volume = contents.reading.volumes[index]
        self._contents, entries = contents, contents.entries
        whole = contents.placed(True)
        homes = volume_of(contents.reading, whole.spans[:, 0])
        self.spans = np.flatnonzero(homes == index)
        local = whole.spans[self.spans] - [self.volume.base, 0]
        loose = [
            one
            for one in whole.loose
            if int(volume_of(contents.reading, entries.start[[contents.like(one[0])]])[0]) == index
        ]
        own = Contents(
            local, whole.align[self.spans], whole.fill[self.spans], whole.new[self.spans], whole.gone[self.spans], loose
        )
        self._placer = Placer(self.volume.source, [], own, None, each, filled=contents.reading.layout.end)
        self.placed = Placed()

    def check(self) -> None:
        """FormatError when its contents overlap."""
        self._placer.check(lambda span: self._contents.name_of_span(int(self.spans[span])))

    def place(self, sizes: Mapping[str, int]) -> Placed:
        """Place them with these sizes of new contents."""
        self.placed = self._placer.place(sizes)
        return self.placed

    def changes(self) -> bool:
        """Whether the volume becomes another than it was."""
        steps = self.placed.steps
        whole = len(steps) == 1 and isinstance(steps[0], Piece) and steps[0].source is self.volume.source
        return self.placed.size != self.volume.source.size or not (whole or not self.placed.size)


def placed_together(volumes: Sequence[VolumePlacer], contents: ContentPlan, sizes: Mapping[str, int]) -> Placed:
    """Where everything lies, each place within its volume."""
    together = Placed(span_start=contents.spans[:, 0].copy() if len(contents.spans) else np.zeros(0, np.int64))
    for volume in volumes:
        placed = volume.place(sizes)
        together.span_start[volume.spans] = placed.span_start
        together.new_start |= placed.new_start
    return together
