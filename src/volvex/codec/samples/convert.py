"""Samples of one type as those of another."""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.codec.samples import Samples


def as_floats(samples: Samples) -> Samples:
    """Samples as numbers from -1 to 1."""
    if samples.dtype.kind == "f":
        return samples
    floats: Any = samples.astype(np.float32 if samples.dtype.itemsize == 2 else np.float64)
    return np.asarray(floats / -np.iinfo(samples.dtype).min)


def as_type(samples: Samples, sample: str) -> tuple[Samples, int]:
    """Samples of another type, and how many of them were too loud for it."""
    wanted = np.dtype(sample)
    if samples.dtype == wanted:
        return samples, 0
    if wanted.kind == "f":
        return np.asarray(as_floats(samples).astype(wanted)), 0
    if samples.dtype.kind == "i":
        if wanted.itemsize > samples.dtype.itemsize:
            return np.asarray(samples.astype(wanted) << 16), 0
        rounded = np.minimum(samples, np.iinfo(np.int32).max - 0x8000) + 0x8000 >> 16
        return np.asarray(rounded.astype(wanted)), 0
    most = -float(np.iinfo(wanted).min)
    whole = np.rint(np.clip(np.nan_to_num(samples.astype(np.float64)), -2, 2) * most)
    clipped = int(np.count_nonzero((whole > most) | (whole < -most)))  # a full 1.0 is not too loud
    return np.asarray(np.clip(whole, -most, most - 1).astype(wanted)), clipped
