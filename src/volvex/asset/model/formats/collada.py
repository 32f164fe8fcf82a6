"""COLLADA: read, not written. Source: Khronos, COLLADA 1.5 specification (ISO/PAS 17506)."""

from __future__ import annotations

import io
from collections.abc import Mapping
from typing import Any

import numpy as np

from volvex.asset.model.model import Array, Material, Mesh, Model, Part, check_mesh
from volvex.errors import FormatError, RefusedError
from volvex.extras import require
from volvex.library_errors import library_errors
from volvex.source import Source

NAMES: tuple[str, ...] = ()
EXTENSIONS = ("dae",)
WRITES = False
LARGEST = 1 << 28
UP = {"X_UP": ((0, -1, 0), (1, 0, 0), (0, 0, 1)), "Z_UP": ((1, 0, 0), (0, 0, 1), (0, -1, 0))}


def fits(head: bytes, name: str) -> bool:
    """Whether XML is COLLADA: by its root."""
    return b"<COLLADA" in head


def read(source: Source) -> Model:
    """The meshes and materials of the scene in a file, in metres with y up."""
    if source.size > LARGEST:
        raise FormatError(source.name, f"{source.size:,} bytes of XML", hint="a smaller model")
    data = source.read(0, source.size)
    if b"<!DOCTYPE" in data[: 1 << 16] or b"<!ENTITY" in data:
        raise FormatError(source.name, "XML with entities, which COLLADA has none of", hint="saving it again")
    stem = source.name.rpartition("/")[2].rpartition(".")[0] or source.name
    made = Model(stem, "COLLADA")
    with library_errors(source.name, "COLLADA file"), np.errstate(all="ignore"):
        require("collada", "COLLADA models")
        import collada  # a third of a second

        scene: Any = collada.Collada(io.BytesIO(data), ignore=[collada.common.DaeError])
        unit = float(getattr(scene.assetInfo, "unitmeter", None) or 1)
        turn = np.array(UP.get(str(scene.assetInfo.upaxis), np.eye(3)), np.float64) * unit
        where: dict[str, int] = {}
        bound = scene.scene.objects("geometry") if scene.scene is not None else scene.geometries
        for number, geometry in enumerate(bound):
            for primitive in geometry.primitives():
                mesh = _mesh(primitive, turn, str(getattr(geometry.original, "name", "") or f"{stem}_{number}"))
                if mesh is None:
                    continue
                name = str(getattr(primitive.material, "name", "") or getattr(primitive.material, "id", "") or "")
                if name and name not in where:
                    where[name] = len(made.materials)
                    made.materials.append(_material(primitive.material, name))
                mesh.parts = [Part(0, len(mesh.triangles), where.get(name, -1))]
                check_mesh(source.name, mesh)
                made.meshes.append(mesh)
    if getattr(scene, "controllers", None):
        made.notes = ("its joints and animations are left out",)
    return made


def _mesh(primitive: Any, turn: Array, name: str) -> Mesh | None:
    """The triangles of a primitive, a vertex for each corner that differs."""
    own = primitive.triangleset() if hasattr(primitive, "triangleset") else primitive
    if not hasattr(own, "vertex_index") or own.vertex_index is None or own.vertex is None:
        return None
    corners = [np.asarray(own.vertex_index).reshape(-1)]
    has_normals = own.normal is not None and own.normal_index is not None
    has_uvs = bool(own.texcoordset) and bool(own.texcoord_indexset)
    if has_normals:
        corners.append(np.asarray(own.normal_index).reshape(-1))
    if has_uvs:
        corners.append(np.asarray(own.texcoord_indexset[0]).reshape(-1))
    unique, inverse = np.unique(np.stack(corners, axis=1), axis=0, return_inverse=True)
    made = Mesh(
        name,
        (np.asarray(own.vertex)[unique[:, 0]] @ turn.T).astype(np.float32),
        np.asarray(inverse).reshape(-1, 3).astype(np.uint32),
    )
    if has_normals:
        normals = np.asarray(own.normal)[unique[:, 1]] @ turn.T
        length = np.linalg.norm(normals, axis=1, keepdims=True)
        made.normals = (normals / np.where(length < 1e-12, 1, length)).astype(np.float32)
    if has_uvs:
        uvs = np.asarray(own.texcoordset[0])[unique[:, -1]][:, :2].astype(np.float32)
        uvs[:, 1] = 1 - uvs[:, 1]
        made.uvs = [uvs]
    return made


def _material(material: Any, name: str) -> Material:
    made = Material(name)
    effect = getattr(material, "effect", None)
    diffuse = getattr(effect, "diffuse", None)
    if isinstance(diffuse, tuple) and len(diffuse) >= 3:
        red, green, blue = (float(one) for one in diffuse[:3])
        made.colour = (red, green, blue, float(diffuse[3]) if len(diffuse) > 3 else 1.0)
    image = getattr(getattr(getattr(diffuse, "sampler", None), "surface", None), "image", None)
    if image is not None:
        made.textures["colour"] = str(image.path).replace("\\", "/")
    return made


def write(model: Model, images: Mapping[str, str]) -> dict[str, bytes]:
    """RefusedError: it is not written."""
    raise RefusedError("COLLADA is read here, not written", "glb")
