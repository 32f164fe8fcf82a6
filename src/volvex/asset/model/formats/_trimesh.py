"""Forms that trimesh reads and writes: vertices and triangles alone."""

from __future__ import annotations

import io
import logging
from typing import Any

import numpy as np

from volvex.asset.model.model import MOST_TRIANGLES, Mesh, Model, Part, check_counts, check_mesh
from volvex.errors import FormatError
from volvex.extras import require
from volvex.library_errors import library_errors
from volvex.source import Source

LARGEST = 1 << 30


def _trimesh() -> Any:
    """The library, which takes a third of a second to load; what it logs is no message to a user."""
    require("trimesh", "PLY and STL models")
    import trimesh

    log = logging.getLogger("trimesh")
    log.propagate = False
    if not log.handlers:
        log.addHandler(logging.NullHandler())
    return trimesh


def read_with(source: Source, kind: str, form: str) -> Model:
    """The model in a file of a type that trimesh has a name for."""
    if source.size > LARGEST:
        raise FormatError(source.name, f"{source.size:,} bytes, more than any model has", hint="a smaller model")
    data = source.read(0, source.size)
    with library_errors(source.name, f"{form} file"), np.errstate(all="ignore"):
        trimesh = _trimesh()

        loaded: Any = trimesh.load(io.BytesIO(data), file_type=kind, process=False, force="mesh")
        positions = np.asarray(loaded.vertices, np.float64).reshape(-1, 3).astype(np.float32)
        triangles = np.asarray(getattr(loaded, "faces", np.zeros((0, 3))), np.int64).reshape(-1, 3)
        check_counts(source.name, {"triangles": (len(triangles), MOST_TRIANGLES)})
        if len(triangles) and (int(triangles.min()) < 0 or int(triangles.max()) >= len(positions)):
            raise FormatError(source.name, f"a triangle has vertex {int(triangles.max()):,} of {len(positions):,}")
        stem = source.name.rpartition("/")[2].rpartition(".")[0] or source.name
        mesh = Mesh(stem, positions, triangles.astype(np.uint32), [Part(0, len(triangles))])
        visual: Any = getattr(loaded, "visual", None)
        if getattr(visual, "kind", "") == "vertex":
            colours = np.asarray(visual.vertex_colors, np.float32)
            if colours.shape == (len(positions), 4):
                mesh.colours = [colours / 255]
    check_mesh(source.name, mesh)
    return Model(stem, form, [mesh])


def write_with(model: Model, kind: str) -> bytes:
    """The triangles of the highest level of detail as a file."""
    trimesh = _trimesh()
    positions, triangles, at = [], [], 0
    for mesh in model.meshes:
        positions.append(mesh.positions)
        triangles.append(mesh.drawn().astype(np.int64) + at)
        at += len(mesh.positions)
    made = trimesh.Trimesh(
        np.concatenate(positions) if positions else np.zeros((0, 3)),
        np.concatenate(triangles) if triangles else np.zeros((0, 3), np.int64),
        process=False,
    )
    data: Any = made.export(file_type=kind)
    return data.encode() if isinstance(data, str) else bytes(data)
