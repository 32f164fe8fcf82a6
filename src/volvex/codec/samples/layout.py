"""How the samples of a sound lie: their encoding, and whether the channels take turns by frames or blocks, or lie one
behind the other.

A layout writes it as `pcm16(order channels)`, `ima_adpcm(block 512, header none)`.
"""

from __future__ import annotations

import functools
from dataclasses import dataclass

import numpy as np

from volvex.codec.parameters import Parameter, parse_spec, settled
from volvex.codec.samples import Before, Bytes, SampleEncoding, Samples, by_name
from volvex.errors import UsageError

FRAMES, CHANNELS, BLOCKS = ORDERS = ("frames", "channels", "blocks")
OWN = {
    "order": Parameter(FRAMES, words=ORDERS),
    "block": Parameter(0, numbers=(0, 1 << 20)),
    "rate": Parameter(0, numbers=(1, 10_000_000)),
    "channels": Parameter(1, numbers=(1, 64)),
}


@dataclass(frozen=True)
class SampleLayout:
    """An encoding, the order of its channels; the bytes of a block, rate and channels where no field gives them."""

    encoding: SampleEncoding
    order: str = FRAMES
    block: int = 0
    rate: int = 0
    channels: int = 1

    @property
    def apart(self) -> bool:
        """Whether each channel is encoded apart."""
        return self.order != FRAMES

    def frames(self, size: int, channels: int) -> int:
        """How many frames some bytes hold."""
        if self.apart:
            return self.encoding.frames(size // channels, 1, self.block)
        return self.encoding.frames(size, channels, self.block)

    def size(self, frames: int, channels: int) -> int:
        """The bytes that some frames take."""
        if self.apart:
            return self.encoding.size(frames, 1, self.block) * channels
        return self.encoding.size(frames, channels, self.block)

    def decode(self, data: Bytes, channels: int, frames: int) -> Samples:
        """The first frames of some bytes, no more of them than these hold."""
        if not self.apart:
            return self.encoding.decode(data, channels, self.block, frames)
        lanes = [self.encoding.decode(lane, 1, self.block, frames) for lane in self._lanes(data, channels)]
        return np.concatenate(lanes, axis=1)

    def encode(self, samples: Samples, before: Before | None = None) -> bytes:
        """Samples as they are stored; where they are as `before`, so are the bytes."""
        channels = samples.shape[1]
        if not self.apart:
            return self.encoding.encode(samples, channels, self.block, before)
        olds: list[Before | None] = [None] * channels
        if before is not None and before.samples.shape[1] == channels:
            old = self._lanes(before.data, channels)
            olds = [Before(before.samples[:, one : one + 1], old[one]) for one in range(channels)]
        lanes = [
            np.frombuffer(self.encoding.encode(samples[:, one : one + 1], 1, self.block, olds[one]), np.uint8)
            for one in range(channels)
        ]
        if self.order == CHANNELS:
            return b"".join(lane.tobytes() for lane in lanes)
        starts = range(0, len(lanes[0]), self.block)
        return b"".join(lane[at : at + self.block].tobytes() for at in starts for lane in lanes)

    def _lanes(self, data: Bytes, channels: int) -> list[Bytes]:
        """The bytes of each channel."""
        each = len(data) // channels
        if self.order == CHANNELS:
            return [data[each * one : each * (one + 1)] for one in range(channels)]
        whole = each // self.block * self.block
        rounds, rest = data[: whole * channels].reshape(-1, channels, self.block), data[whole * channels :]
        tail = len(rest) // channels
        return [
            np.concatenate([rounds[:, one].reshape(-1), rest[tail * one : tail * (one + 1)]]) for one in range(channels)
        ]


@functools.lru_cache(1024)
def sample_layout(text: str, order: str = "", block: int = 0) -> SampleLayout:
    """The samples that a layout writes as `pcm16(order channels)`; UsageError when there are none.

    `order`, `block`: what fields of a file give in place of the text.
    """
    spec = parse_spec(text)
    family = by_name().get(spec.name)
    if family is None:
        raise UsageError(
            f"there is no encoding of samples called {spec.name}", f"one of {', '.join(sorted(by_name()))}"
        )
    values = settled(spec, {**OWN, **family.PARAMETERS})
    order, block = order or values["order"], block or values["block"]
    encoding = family.make(spec.name, **{name: values[name] for name in family.PARAMETERS})
    return SampleLayout(encoding, order, block, values["rate"], values["channels"])


def check_block(made: SampleLayout, channels: int, given: bool = False) -> str:
    """What is wrong with the size of a block; nothing when it can be. `given`: some field gives it."""
    lanes = 1 if made.apart else channels
    if made.order == BLOCKS and not made.block and not given:
        return "channels that take turns by blocks need the size of a block"
    if made.block and made.encoding.blocks and made.encoding.frames(made.block, lanes, made.block) < 1:
        return f"a block of {made.block} bytes has no samples of {channels} channels"
    if (
        made.order == BLOCKS
        and made.block
        and not made.encoding.blocks
        and made.block % max(1, made.encoding.bits // 8)
    ):
        return f"a block of {made.block} bytes ends within a sample"
    return ""
