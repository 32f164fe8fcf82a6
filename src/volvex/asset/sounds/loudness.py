"""How loud a sound is: peak, and loudness as people hear it (ITU-R BS.1770-4, EBU R 128)."""

from __future__ import annotations

import math
import warnings

import numpy as np

from volvex.codec.samples import Samples
from volvex.codec.samples.convert import as_floats

BLOCK = 0.4  # seconds over which loudness is measured
MOST_CHANNELS = 5  # that the measure has weights for
SILENCE = -70.0  # LUFS below which nothing counts
LEAST = 16  # frames of which something can be said


def peak_of(samples: Samples) -> float:
    """The largest sample in decibels below the largest that there can be; minus infinity for silence."""
    if not samples.size:
        return -math.inf
    if samples.dtype.kind == "f":
        most = float(np.nanmax(np.abs(np.nan_to_num(samples))))
    else:
        most = max(abs(int(samples.max())), abs(int(samples.min()))) / -np.iinfo(samples.dtype).min
    return 20 * math.log10(most) if most > 0 else -math.inf


def loudness_of(samples: Samples, rate: int) -> float:
    """The integrated loudness in LUFS; minus infinity for silence. A sound shorter than 0.4 s is measured as one block."""
    if len(samples) < LEAST or not samples.any():
        return -math.inf
    import pyloudnorm

    values = np.nan_to_num(as_floats(samples[:, :MOST_CHANNELS]).astype(np.float64))
    block = min(BLOCK, (len(samples) - 1) / rate)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        found = float(pyloudnorm.Meter(rate, block_size=block).integrated_loudness(values))
    return found if found > SILENCE else -math.inf
