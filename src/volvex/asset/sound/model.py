"""A sound with all that it has: rate, channels, frames, loops, cues, tags; its samples when they are asked for."""

from __future__ import annotations

import functools
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from volvex.codec.samples import Samples
from volvex.codec.samples.riff import Cue, Loop
from volvex.errors import FRESH, FormatError

MOST_CHANNELS = 64
MOST_RATE = 10_000_000
LARGEST = 1 << 31  # bytes of samples that are held at once
LOSSY = ("vorbis", "opus", "mp3")  # encodings that do not give back what went in


@dataclass(frozen=True)
class Sound:
    """A sound as it is stored. `decode`: gives all its samples, frames x channels.

    `sample`: NumPy's type of them. `bits`: of a sample as it is stored, 0 where that says nothing. `extra`: what writes
    the file again.
    """

    rate: int
    channels: int
    frames: int
    encoding: str
    bits: int
    sample: str
    decode: Callable[[], Samples]
    form: str = ""  # of the file: wav, ogg, or the title of a layout
    loops: tuple[Loop, ...] = ()
    cues: tuple[Cue, ...] = ()
    tags: Mapping[str, str] = field(default_factory=dict)
    notes: tuple[str, ...] = ()
    seekable: bool = True  # whether its head gives its length, so that it can be played from any frame
    extra: Mapping[str, Any] = field(default_factory=dict)

    @property
    def duration(self) -> float:
        """In seconds."""
        return self.frames / self.rate

    @property
    def lossy(self) -> bool:
        """Whether its encoding does not give back what went in."""
        return self.encoding in LOSSY

    @functools.cached_property
    def samples(self) -> Samples:
        """All samples, frames x channels; FormatError when they are damaged."""
        return self.decode()

    def with_samples(self, samples: Samples, **changes: Any) -> Sound:
        """The same sound with others."""
        own = {"frames": len(samples), "channels": samples.shape[1], "sample": samples.dtype.str[1:], **changes}
        return replace(self, decode=lambda: samples, **own)


def check_sound(name: str, rate: int, channels: int, frames: int, sample: str = "i2") -> None:
    """FormatError for a sound that cannot be: no rate, no channels, more frames than memory is given to."""
    if not 0 < rate <= MOST_RATE:
        raise FormatError(name, f"a rate of {rate:,} frames a second", hint=FRESH)
    if not 0 < channels <= MOST_CHANNELS:
        raise FormatError(name, f"a sound of {channels} channels, expected 1 to {MOST_CHANNELS}", hint=FRESH)
    if frames < 0 or frames * channels * np.dtype(sample).itemsize > LARGEST:
        raise FormatError(name, f"{frames:,} frames of {channels} channels, more than are held at once", hint=FRESH)
