"""MS ADPCM: what two samples foretell, and by how many steps of a size that follows the sound it is missed (RIFF WAVE,
1994).

A block begins, for all channels, with the number of the coefficients, the size of a step, and the two first samples,
the later one first. The differences of the channels take turns, the high half of a byte before the low one.

coefficients  a table of the game's own: pairs of signed numbers of 16 bits, the low byte first
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.codec.compiled import Compiled
from volvex.codec.parameters import Parameter
from volvex.codec.samples import Before, Bytes, Samples
from volvex.codec.samples.riff import STANDARD
from volvex.errors import UsageError

NAMES = ("ms_adpcm",)
PARAMETERS = {"coefficients": Parameter(b"", sizes=())}
ADAPTION = np.array([230, 230, 230, 230, 307, 409, 512, 614, 768, 614, 512, 409, 307, 230, 230, 230], np.int32)
TRIED = 24  # samples of a block by which its coefficients are chosen
HEADER = 7  # bytes of each channel


@Compiled
def _decode(data: Any, out: Any, block: Any, pairs: Any, adaption: Any) -> Any:
    frames, channels = out.shape
    at, done = 0, 0
    while done < frames and at + 7 * channels <= len(data):
        length = min(block, len(data) - at) if block else len(data)
        if length < 7 * channels:
            break
        count = min(frames - done, 2 + (length - 7 * channels) * 2 // channels)
        for channel in range(channels):
            which = min(np.int64(data[at + channel]), len(pairs) - 1)
            place = at + channels + 2 * channel
            step = np.int64(data[place]) | np.int64(data[place + 1]) << 8
            step = step - 65536 if step & 32768 else step
            place += 2 * channels
            late = np.int64(data[place]) | np.int64(data[place + 1]) << 8
            late = late - 65536 if late & 32768 else late
            place += 2 * channels
            early = np.int64(data[place]) | np.int64(data[place + 1]) << 8
            early = early - 65536 if early & 32768 else early
            out[done, channel] = early
            if count > 1:
                out[done + 1, channel] = late
            for number in range(count - 2):
                nibble = number * channels + channel
                byte = np.int64(data[at + 7 * channels + (nibble >> 1)])
                code = byte & 15 if nibble & 1 else byte >> 4
                value = (late * pairs[which, 0] + early * pairs[which, 1] >> 8) + (
                    code - 16 if code & 8 else code
                ) * step
                value = min(max(value, -32768), 32767)
                step = max(np.int64(adaption[code] * step >> 8), np.int64(16))
                early, late = late, value
                out[done + 2 + number, channel] = value
        done, at = done + count, at + length
    return done


@Compiled
def _encode(samples: Any, old: Any, data: Any, out: Any, block: Any, pairs: Any, adaption: Any) -> Any:
    """Fill `out`; blocks whose samples are those of `old` are those of `data`."""
    frames, channels = samples.shape
    at, done, kept = 0, 0, 0
    while at < len(out):
        length = min(block, len(out) - at) if block else len(out)
        each = (length - 7 * channels) * 2 // channels
        there = max(0, min(2 + each, frames - done))
        alike = at + length <= len(data) and done + there <= len(old)
        number = 0
        while alike and number < there:
            for channel in range(channels):
                alike = alike and samples[done + number, channel] == old[done + number, channel]
            number += 1
        if alike:
            out[at : at + length] = data[at : at + length]
            at, done, kept = at + length, done + 2 + each, kept + 1
            continue
        for channel in range(channels):
            early = samples[done, channel] if there else 0
            late = samples[done + 1, channel] if there > 1 else early
            which, least = 0, -1
            for pair in range(len(pairs)):
                missed = 0
                for number in range(2, there, max(1, there // TRIED)):
                    before, last = samples[done + number - 2, channel], samples[done + number - 1, channel]
                    guess = last * pairs[pair, 0] + before * pairs[pair, 1] >> 8
                    missed += abs(samples[done + number, channel] - guess)
                if least < 0 or missed < least:
                    which, least = pair, missed
            reach: Any = 0
            for number in range(2, min(there, 6)):
                before, last = samples[done + number - 2, channel], samples[done + number - 1, channel]
                reach += abs(samples[done + number, channel] - (last * pairs[which, 0] + before * pairs[which, 1] >> 8))
            step = min(max(reach // 16, 16), 32767)
            out[at + channel] = which
            place = at + channels + 2 * channel
            for value in (step, late, early):
                out[place], out[place + 1] = value & 255, value >> 8 & 255
                place += 2 * channels
            for number in range(each):
                guess = late * pairs[which, 0] + early * pairs[which, 1] >> 8
                wanted = samples[done + 2 + number, channel] if 2 + number < there else guess
                missed = wanted - guess
                share = np.float64(missed) / np.float64(step)  # whole numbers are divided more slowly
                code = np.int64(share + 0.5) if missed >= 0 else -np.int64(0.5 - share)
                code = min(max(code, np.int64(-8)), np.int64(7))
                value = min(max(guess + code * step, -32768), 32767)
                code &= 15
                step = min(max(adaption[code] * step >> 8, 16), 1 << 24)
                early, late = late, value
                nibble = number * channels + channel
                out[at + 7 * channels + (nibble >> 1)] |= code if nibble & 1 else code << 4
        done, at = done + 2 + each, at + length
    return kept


@dataclass(frozen=True)
class MsAdpcm:
    """Blocks that begin with two samples of each channel."""

    pairs: Any
    name: str = "ms_adpcm"
    bits: int = 4
    sample: str = "i2"
    blocks: bool = True

    def _held(self, size: int, channels: int) -> int:
        body = size - HEADER * channels
        return 2 + body * 2 // channels if body >= 0 else 0

    def frames(self, size: int, channels: int, block: int) -> int:
        if not block:
            return self._held(size, channels)
        return size // block * self._held(block, channels) + self._held(size % block, channels)

    def size(self, frames: int, channels: int, block: int) -> int:
        if not block:
            return HEADER * channels + (max(0, frames - 2) * channels + 1) // 2
        return -(-frames // max(1, self._held(block, channels))) * block

    def decode(self, data: Bytes, channels: int, block: int, frames: int) -> Samples:
        out = np.zeros((min(frames, self.frames(len(data), channels, block)), channels), np.int16)
        return out[: _decode(data, out, block, self.pairs, ADAPTION)]

    def encode(self, samples: Samples, channels: int, block: int, before: Before | None) -> bytes:
        out = np.zeros(self.size(len(samples), channels, block), np.uint8)
        old = before.samples.astype(np.int32) if before is not None else np.zeros((0, channels), np.int32)
        data = before.data if before is not None else np.zeros(0, np.uint8)
        _encode(samples.astype(np.int32), old, data, out, block, self.pairs, ADAPTION)
        return bytes(out.tobytes())


def make(name: str, coefficients: bytes = b"") -> MsAdpcm:
    if len(coefficients) % 4 or len(coefficients) > 1024:
        raise UsageError(
            f"{name}: coefficients are pairs of numbers of 16 bits, at most 256", "four bytes for each pair"
        )
    own = np.frombuffer(coefficients, "<i2").reshape(-1, 2).astype(np.int32)
    return MsAdpcm(own if len(own) else np.frombuffer(STANDARD, "<i2").reshape(-1, 2).astype(np.int32))
