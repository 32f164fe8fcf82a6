"""Meshes: vertices, triangles, parts by material; in the same file perhaps joints, materials, animations."""

from __future__ import annotations

from volvex.layout.kinds._model import FAMILIES, ModelKind

DATA_KIND = ModelKind(tuple(FAMILIES), ("position",))
