"""Animations of a skeleton: a pose for each frame, or tracks with keys at times."""

from __future__ import annotations

from volvex.layout.kinds._model import ModelKind

DATA_KIND = ModelKind(
    ("animation", "track", "key", "reference"),
    ("translation key or rotation key or smallest rotation key or scale key", "frame rate or key time"),
)
