"""Tracks of animations: whether two are the same, and their values between keys."""

from __future__ import annotations

import numpy as np

from volvex.asset.model.model import ROTATION, Array, Track
from volvex.asset.model.space import unit_rows

SNAP = 1e-4  # of the time between two keys


def same_track(one: Track, two: Track) -> bool:
    """Whether two tracks are the same, but for what floats lose."""
    return (
        (one.joint, one.path) == (two.joint, two.path)
        and one.values.shape == two.values.shape
        and bool(np.allclose(one.times, two.times, rtol=0, atol=1e-5))
        and bool(
            np.allclose(one.values, two.values, rtol=1e-6, atol=1e-6)
            or (one.path == ROTATION and np.allclose(np.abs((one.values * two.values).sum(axis=1)), 1, atol=1e-6))
        )
    )


def sampled(track: Track, times: Array) -> Array:
    """The values of a track at some times, between its keys as glTF says: turns over the shortest way."""
    if not len(track.times):
        return np.zeros((len(times), track.values.shape[1] if track.values.ndim > 1 else 3), np.float32)
    after = np.clip(np.searchsorted(track.times, times, side="right"), 1, max(1, len(track.times) - 1))
    if len(track.times) == 1:
        return np.repeat(track.values, len(times), axis=0)
    before = after - 1
    span = track.times[after] - track.times[before]
    share = np.clip((times - track.times[before]) / np.where(span == 0, 1, span), 0, 1)[:, None]
    share = np.where(share < SNAP, 0, np.where(share > 1 - SNAP, 1, share))  # on a key its own value counts
    one, two = track.values[before].astype(np.float64), track.values[after].astype(np.float64)
    if track.stepped:
        return np.asarray(np.where(share >= 1, two, one), np.float32)
    if track.path != ROTATION:
        return (one + (two - one) * share).astype(np.float32)
    cosine = (one * two).sum(axis=1, keepdims=True)
    two, cosine = np.where(cosine < 0, -two, two), np.abs(cosine)
    angle = np.arccos(np.clip(cosine, 0, 1))
    sine = np.sin(angle)
    near = sine < 1e-5
    safe = np.where(near, 1, sine)
    first = np.where(near, 1 - share, np.sin((1 - share) * angle) / safe)
    second = np.where(near, share, np.sin(share * angle) / safe)
    return unit_rows(one * first + two * second)
