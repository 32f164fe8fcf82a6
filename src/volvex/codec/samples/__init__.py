"""Sample encodings: how the samples of a sound are stored, one file each, found by their names through one registry.

rate     frames a second
frame    one sample of each channel; lengths and places in sounds are counted in frames
block    frames that are encoded together, with a start of their own
lane     the samples of one channel, when channels are encoded apart

A module exports `NAMES` (encodings that it knows), `PARAMETERS` (what they take) and `make(name, **values)`, a
`SampleEncoding`. A layout writes them as `pcm16`, `ima_adpcm(nibbles high, header none)`.
"""

from __future__ import annotations

import functools
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from volvex.codec.parameters import Parameter
from volvex.registry import Registry

Samples = NDArray[Any]  # frames x channels: int16, int32, float32 or float64
Bytes = NDArray[np.uint8]


@dataclass(frozen=True)
class Before:
    """What new samples take the place of: those that were there, and how they were stored."""

    samples: Samples
    data: Bytes


class SampleEncoding(Protocol):
    """An encoding of some channels of samples. `block`: the bytes of a block, 0 when all is one."""

    name: str
    bits: int  # of a sample as it is stored
    sample: str  # NumPy's name of the type that it decodes to
    blocks: bool  # whether samples are encoded in blocks, so that `block` matters

    def frames(self, size: int, channels: int, block: int) -> int:
        """How many frames some bytes hold."""
        ...

    def size(self, frames: int, channels: int, block: int) -> int:
        """The bytes that some frames take."""
        ...

    def decode(self, data: Bytes, channels: int, block: int, frames: int) -> Samples:
        """The first frames of some bytes, no more of them than these hold."""
        ...

    def encode(self, samples: Samples, channels: int, block: int, before: Before | None) -> bytes:
        """Samples as they are stored; where they are as `before`, so are the bytes."""
        ...


class EncodingFamily(Protocol):
    NAMES: tuple[str, ...]
    PARAMETERS: Mapping[str, Parameter]

    def make(self, name: str, **values: Any) -> SampleEncoding: ...


ENCODINGS: Registry[EncodingFamily] = Registry(
    "samples",
    __name__,
    Path(__file__).parent,
    ("bank.py", "convert.py", "heads.py", "layout.py", "riff.py"),
    needs=("NAMES", "PARAMETERS", "make"),
)


@functools.cache
def by_name() -> dict[str, EncodingFamily]:
    """The families by the encodings that they know."""
    return {name: family for family in ENCODINGS.all() for name in family.NAMES}
