"""Materials: which textures a surface has, by their role, its colours, and whether it is seen through."""

from __future__ import annotations

from volvex.layout.kinds._model import ModelKind

DATA_KIND = ModelKind(("material", "reference"), ("material name",))
