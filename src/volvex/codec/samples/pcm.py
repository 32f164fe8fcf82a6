"""Samples as plain numbers: whole ones of 8 to 32 bits, floats; the first byte the low one or the high one."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.codec.parameters import Parameter
from volvex.codec.samples import Before, Bytes, Samples

NAMES = ("pcm8", "pcm8_signed", "pcm16", "pcm24", "pcm32", "float32", "float64")
PARAMETERS = {"endian": Parameter("little", words=("little", "big"))}
SAMPLES = {"pcm8": "i2", "pcm8_signed": "i2", "pcm16": "i2", "pcm24": "i4", "pcm32": "i4"}


@dataclass(frozen=True)
class Pcm:
    """Numbers of one width, frame by frame. Those of 8 bits decode to 16, those of 24 to 32: the high bits."""

    name: str
    bits: int
    sample: str
    order: str
    blocks: bool = False

    @property
    def _width(self) -> int:
        return self.bits // 8

    def frames(self, size: int, channels: int, block: int) -> int:
        return size // (self._width * channels)

    def size(self, frames: int, channels: int, block: int) -> int:
        return frames * channels * self._width

    def decode(self, data: Bytes, channels: int, block: int, frames: int) -> Samples:
        count = min(frames, self.frames(len(data), channels, block))
        data = data[: count * channels * self._width]
        if self.bits == 24:
            wide = np.zeros((count * channels, 4), np.uint8)
            wide[:, 1:] = data.reshape(-1, 3)[:, :: 1 if self.order == "<" else -1]
            return wide.view("<i4").reshape(count, channels)
        if self.bits == 8:
            whole = data.astype(np.int16) - 128 if self.name == "pcm8" else data.view(np.int8).astype(np.int16)
            return (whole << 8).reshape(count, channels)
        return data.view(f"{self.order}{self.sample}").astype(self.sample, copy=False).reshape(count, channels)

    def encode(self, samples: Samples, channels: int, block: int, before: Before | None) -> bytes:
        if self.bits == 24:
            wide = np.ascontiguousarray(_rounded(samples, 8) << 8, "<i4").view(np.uint8).reshape(-1, 4)[:, 1:]
            return wide[:, :: 1 if self.order == "<" else -1].tobytes()
        if self.bits == 8:
            whole = _rounded(samples, 8)
            return bytes((whole + 128 if self.name == "pcm8" else whole).astype(np.uint8).tobytes())
        return samples.astype(f"{self.order}{self.sample}", copy=False).tobytes()


def _rounded(samples: Samples, bits: int) -> Any:
    """Whole samples without their lowest bits, to the nearest."""
    most = np.iinfo(samples.dtype).max
    return np.minimum(samples, most - (1 << (bits - 1))) + (1 << (bits - 1)) >> bits


def make(name: str, endian: str = "little") -> Pcm:
    bits = int("".join(letter for letter in name if letter.isdigit()))
    sample = SAMPLES.get(name, f"f{bits // 8}")
    return Pcm(name, bits, sample, "<" if endian == "little" else ">")
