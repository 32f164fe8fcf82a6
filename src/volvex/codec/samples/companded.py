"""mu-law and A-law: samples of 14 and 13 bits in 8, finer where they are small (ITU-T G.711)."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.codec.parameters import Parameter
from volvex.codec.samples import Before, Bytes, Samples

NAMES = ("mulaw", "alaw")
PARAMETERS: dict[str, Parameter] = {}


@dataclass(frozen=True)
class Companded:
    """A byte a sample, by a table."""

    name: str
    bits: int = 8
    sample: str = "i2"
    blocks: bool = False

    def frames(self, size: int, channels: int, block: int) -> int:
        return size // channels

    def size(self, frames: int, channels: int, block: int) -> int:
        return frames * channels

    def decode(self, data: Bytes, channels: int, block: int, frames: int) -> Samples:
        count = min(frames, len(data) // channels)
        return np.asarray(decoded(self.name)[data[: count * channels]].reshape(count, channels))

    def encode(self, samples: Samples, channels: int, block: int, before: Before | None) -> bytes:
        made = _encoded(self.name)[samples.astype(np.int32) + 32768].reshape(-1)
        if before is not None:  # two bytes may mean the same, such as the two zeros of mu-law
            count = min(len(samples), len(before.samples))
            same = (samples[:count] == before.samples[:count]).reshape(-1)
            made[: len(same)][same] = before.data[: len(same)][same]
        return bytes(made.tobytes())


@functools.cache
def decoded(name: str) -> Any:
    """The sample that each byte stands for."""
    if name == "mulaw":
        byte: Any = ~np.arange(256, dtype=np.uint8)
        size = (((byte & 15).astype(np.int32) << 3) + 132 << (byte >> 4 & 7)) - 132
        return np.where(byte & 128, -size, size).astype(np.int16)
    byte = np.arange(256, dtype=np.uint8) ^ 0x55
    exponent, mantissa = (byte >> 4 & 7).astype(np.int32), (byte & 15).astype(np.int32) << 4
    size = np.where(exponent == 0, mantissa + 8, mantissa + 264 << np.maximum(exponent - 1, 0))
    return np.where(byte & 128, size, -size).astype(np.int16)


@functools.cache
def _encoded(name: str) -> Any:
    """The byte that is nearest to each sample, from -32768 on."""
    values = decoded(name).astype(np.int32)
    order = np.argsort(values, kind="stable")
    edges = values[order]
    middle = (edges[:-1] + edges[1:] + 1) // 2
    return order[np.searchsorted(middle, np.arange(-32768, 32768), "right")].astype(np.uint8)


def make(name: str) -> Companded:
    return Companded(name)
