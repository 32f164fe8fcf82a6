"""MIDI files: notes for instruments, which are not played."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from volvex.asset.kind import Around, AssetKind
from volvex.layout import Library
from volvex.source import Source

if TYPE_CHECKING:
    from volvex.asset.sound.midi import Midi

NAMED = 12  # tracks


class MidiKind(AssetKind["Midi"]):
    NAME, PRIORITY = "midi", 60

    def is_open(self, file_type: str) -> bool:
        return file_type == "midi"

    def may_be(self, file_type: str) -> bool:
        return self.is_open(file_type)

    def opened(
        self, source: Source, library: Library | None, around: Around | None = None, thorough: bool = False
    ) -> Midi | None:
        from volvex.archive.detect import filetypes
        from volvex.asset.sound.midi import read_midi

        return read_midi(source) if self.is_open(filetypes.kind_by_content(source.peek(0, filetypes.HEAD))) else None

    def lines(self, asset: Midi) -> Iterator[tuple[str, str]]:
        from volvex.asset.sound.describe import duration_text

        yield "duration", duration_text(asset.seconds)
        yield "tracks", f"{asset.tracks}, {asset.notes:,} note{'s' if asset.notes != 1 else ''}"
        if asset.names:
            yield "names", ", ".join(asset.names[:NAMED])


KIND = MidiKind()
