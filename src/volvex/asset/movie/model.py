"""A movie by its head: container, streams, size, frame rate, duration."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any

from volvex.archive.detect.types.sounds import MOVIES as KINDS
from volvex.source import FileSource, Source, WindowSource

Place = bytes | tuple[str, int, int]  # of a movie's bytes, for another process: these, or a file, an offset and a size
__all__ = ["KINDS", "Audio", "Movie", "Place", "place_of"]
LARGEST = 1 << 31  # bytes of a movie that is held in memory


@dataclass(frozen=True)
class Audio:
    """A stream of sound."""

    codec: str
    rate: int
    channels: int
    layout: str
    bit_rate: int = 0
    sample: str = ""  # the library's name of its samples' type


@dataclass(frozen=True)
class Movie:
    """What a movie is. `container`: the library's name of it; `form`: ours, or the title of a layout."""

    container: str
    codec: str
    width: int
    height: int
    rate: Fraction
    frames: int
    duration: float  # in seconds
    pixels: str  # the library's name of the pixel format
    bit_rate: int = 0
    audio: tuple[Audio, ...] = ()
    form: str = ""
    notes: tuple[str, ...] = ()
    extra: Mapping[str, Any] = field(default_factory=dict)


def place_of(source: Source) -> Place:
    """Where a source's bytes are, for another process."""
    if isinstance(source, FileSource):
        return str(source.path.absolute()), 0, source.size
    if isinstance(source, WindowSource) and isinstance(source.inner, FileSource):
        return str(source.inner.path.absolute()), source.start, source.size
    return source.read(0, source.size)
