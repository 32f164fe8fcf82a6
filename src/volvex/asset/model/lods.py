"""Levels of detail made of another: the nearest that a file has, or that with fewer triangles.

Fewer triangles are made by `fast-simplification`, after M. Garland and P. Heckbert, Surface Simplification Using
Quadric Error Metrics, 1997. What a vertex has besides its position comes from the nearest vertex of the mesh that was
simplified.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from volvex.asset.model.model import DRAWN, Array, Mesh, Model, Part
from volvex.asset.model.topology import nearest_rows
from volvex.extras import require

NEAREST, SIMPLIFIED = WAYS = ("nearest", "simplified")


def with_levels(original: Model, edited: Model, way: str) -> Model:
    """An edited model with the levels of detail of the original that it lacks, made of the nearest one that it has."""
    there = {part.lod for mesh in edited.meshes for part in mesh.parts if part.use == DRAWN}
    if not there:
        return edited
    made = list(edited.meshes)
    counts = {lod: original.triangles(lod) for lod in range(original.lods)}
    for lod in range(1, original.lods):
        if lod in there:
            continue
        nearest = max(one for one in there if one < lod) if min(there) < lod else min(there)
        share = min(1.0, counts[lod] / max(1, counts.get(nearest, 0)))
        for mesh in edited.meshes:
            parts = [part for part in mesh.parts if part.use == DRAWN and part.lod == nearest and part.count]
            if parts:
                made.append(_level(mesh, parts, lod, share if way == SIMPLIFIED else 1.0))
    return replace(edited, meshes=made)


def _level(mesh: Mesh, parts: list[Part], lod: int, share: float) -> Mesh:
    """One mesh as another level: as it is, or with about a share of its triangles."""
    triangles, own, at = [], list[Part](), 0
    for part in parts:
        rows = mesh.triangles[part.start : part.start + part.count]
        fewer = rows if share >= 1 else fewer_triangles(mesh.positions, rows, share)
        if not len(fewer):
            fewer = rows[:1]
        triangles.append(fewer)
        own.append(replace(part, start=at, count=len(fewer), lod=lod))
        at += len(fewer)
    return replace(mesh, triangles=np.concatenate(triangles), parts=own)


def fewer_triangles(positions: Array, triangles: Array, share: float) -> Array:
    """About a share of some triangles: of the same vertices, each new one the nearest that there was."""
    if len(triangles) < 8:
        return triangles
    require("fast_simplification", "simplified levels of detail")
    import fast_simplification

    rows, inverse = np.unique(triangles.reshape(-1), return_inverse=True)
    unique, welded = np.unique(positions[rows].astype(np.float32), axis=0, return_inverse=True)
    faces = np.asarray(welded).reshape(-1)[np.asarray(inverse).reshape(-1)].reshape(-1, 3)
    points, fewer = fast_simplification.simplify(unique, faces.astype(np.int32), 1 - max(0.02, share))
    near = nearest_rows(positions[rows], np.asarray(points, np.float64))
    made = rows[near][np.asarray(fewer, np.int64)]
    flat = (made[:, 0] == made[:, 1]) | (made[:, 1] == made[:, 2]) | (made[:, 0] == made[:, 2])
    return np.asarray(made[~flat], np.uint32)
