"""How loud a sound is: peak, and loudness as people hear it (ITU-R BS.1770-4, EBU R 128)."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from volvex.codec.samples import Samples
from volvex.codec.samples.convert import as_floats

BLOCK, OVERLAP = 0.4, 4  # seconds over which loudness is measured; blocks begin this many times in each
GATE, RELATIVE = -70.0, -10.0  # LUFS below which nothing counts; below the mean of what does, and then does not
OFFSET = -0.691  # so that a tone of 997 Hz and full scale has -3.01 LUFS
LEAST = 16  # frames, the fewest that are measured
STEP = 1 << 16  # frames that are filtered at once, and what follows of them
SURROUND = {
    5: (1, 1, 1, 1.41, 1.41),
    6: (1, 1, 1, 0, 1.41, 1.41),
}  # weights of channels: those behind count more, effects do not
Floats = NDArray[np.float64]


def peak_of(samples: Samples) -> float:
    """The largest sample in decibels below the largest that there can be; minus infinity for silence."""
    if not samples.size:
        return -math.inf
    if samples.dtype.kind == "f":
        most = float(np.abs(np.nan_to_num(samples)).max())
    else:
        most = max(abs(int(samples.max())), abs(int(samples.min()))) / -np.iinfo(samples.dtype).min
    return 20 * math.log10(most) if most > 0 else -math.inf


def loudness_of(samples: Samples, rate: int) -> float:
    """The integrated loudness in LUFS; minus infinity for silence. A sound shorter than 0.4 s is measured as one
    block."""
    if len(samples) < LEAST or not samples.any():
        return -math.inf
    weights = np.array(SURROUND.get(samples.shape[1], (1,) * samples.shape[1]))
    step = max(1, round(BLOCK * rate / OVERLAP))
    parts = (np.add.reduceat(part**2, range(0, len(part), step), axis=0) for part in _weighted(samples, rate, step))
    sums = np.concatenate(list(parts))
    whole = len(samples) // step  # steps that are there in full
    if whole < OVERLAP:
        return _level(sums.sum(axis=0) @ weights / len(samples))
    blocks = (
        np.stack([sums[at : at + OVERLAP].sum(axis=0) for at in range(whole - OVERLAP + 1)])
        @ weights
        / (OVERLAP * step)
    )
    heard = blocks[blocks > _power(GATE)]
    if not len(heard):
        return -math.inf
    return _level(float(heard[heard > _power(_level(float(heard.mean())) + RELATIVE)].mean()))


def _level(power: float) -> float:
    return OFFSET + 10 * math.log10(power) if power > _power(GATE) else -math.inf


def _power(level: float) -> float:
    return float(10 ** ((level - OFFSET) / 10))


def _weighted(samples: Samples, rate: int, step: int) -> Iterator[Floats]:
    """Samples as the ear weights them, in parts of whole steps; filtered by their spectrum, part by part."""
    tail = rate // 2  # the filter has faded by then
    length = max(STEP, 1 << (step + tail - 1).bit_length())
    size = (length - tail) // step * step
    response = _response(rate, length)
    rest = np.zeros((samples.shape[1], tail))
    for at in range(0, len(samples), size):
        part = as_floats(samples[at : at + size]).T.astype(np.float64, order="C")
        if samples.dtype.kind == "f":
            part = np.clip(np.nan_to_num(part), -64, 64)
        made = np.fft.irfft(np.fft.rfft(part, length) * response, length)
        made[:, :tail] += rest
        count = part.shape[1]
        rest = made[:, count : count + tail].copy()
        yield made[:, :count].T


def _response(rate: int, length: int) -> NDArray[np.complex128]:
    """The two filters of BS.1770 at a rate: a shelf for the head, and without the lowest tones."""
    z = np.exp(-2j * np.pi * np.arange(length // 2 + 1) / length)
    made: NDArray[np.complex128] = np.ones_like(z)
    for pitch, quality, shelf in (
        (1681.974450955533, 0.7071752369554196, 3.999843853973347),
        (38.13547087602444, 0.5003270373238773, None),
    ):
        k = math.tan(math.pi * min(pitch, 0.49 * rate) / rate)
        whole = 1 + k / quality + k * k
        below = 1 + 2 * (k * k - 1) / whole * z + (1 - k / quality + k * k) / whole * z**2
        if shelf is None:
            above = 1 - 2 * z + z**2
        else:
            high = 10 ** (shelf / 20)
            band = high**0.4996667741545416
            above = (
                high + band * k / quality + k * k + 2 * (k * k - high) * z + (high - band * k / quality + k * k) * z**2
            ) / whole
        made = made * above / below
    return made
