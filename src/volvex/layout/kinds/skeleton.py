"""Skeletons: joints with their parents and the pose in which a mesh is bound to them."""

from __future__ import annotations

from volvex.layout.kinds._model import ModelKind

DATA_KIND = ModelKind(("joint", "reference"), ("joint parent",))
