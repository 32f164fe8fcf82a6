"""Is a model of a game's own format read and written as its layout says? Would it be after a change? Does it look like
a model at all?"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from volvex.asset.model.model import Animation, Array, Mesh, Model
from volvex.asset.model.own_layout import LayoutModel
from volvex.errors import VolvexError
from volvex.layout.inspect.hints import Hint, hints_of
from volvex.layout.model import Attribute
from volvex.layout.read.blocks import Reading
from volvex.source import BytesSource

FAR = 0.5  # of the size of a mesh that an edge is long on the mean where numbers are no positions, or indices none
ASKEW = 0.25  # of triangles that look the other way than their normals where these, or the winding, are wrong
NUMBERS = ("vertex", "index", "key", "shift", "bone", "bounds", "range")  # families of which order and size say nothing


def model_hints(model: Model) -> Iterator[Hint]:
    """What the file shows and the layout does not say, and what makes a mesh unlikely: order, axes, winding,
    formats."""
    reading = model.extra["reading"]
    assert isinstance(reading, Reading)
    numbers = set(_plain_names(reading))
    for hint in hints_of(reading):
        if not any(f"`{name}`" in hint.seen or hint.seen.startswith(f"{name} ") for name in numbers):
            yield hint
    for mesh in model.meshes:
        yield from _mesh_hints(mesh)


def _plain_names(reading: Reading) -> Iterator[str]:
    """The fields of vertices and the like, with and without their blocks."""
    for block in reading.blocks.values():
        for field in block.block.fields:
            if isinstance(field.meaning, Attribute) and field.meaning.of in NUMBERS:
                yield from (field.name, f"{block.block.name}.{field.name}")


def _mesh_hints(mesh: Mesh) -> Iterator[Hint]:
    triangles = mesh.triangles
    if len(triangles) < 8:
        return
    one, two, three = (mesh.positions[triangles[:, at]].astype(np.float64) for at in range(3))
    size = float(np.linalg.norm(np.ptp(mesh.positions, axis=0)))
    edges = (np.linalg.norm(two - one, axis=1) + np.linalg.norm(three - two, axis=1)) / 2
    if size > 0 and float(edges.mean()) > FAR * size:
        yield Hint(
            "index",
            "edges reach across the whole mesh: positions or indices are stored in another way",
            "`content as model(faces strip)`, another type of position, or `big endian`",
        )
        return
    if mesh.normals is None:
        return
    along = (np.cross(two - one, three - one) * mesh.normals[triangles[:, 0]]).sum(axis=1)
    solid = np.abs(along) > 1e-12
    share = float((along[solid] < 0).mean()) if solid.any() else 0.0
    if share > 1 - ASKEW:
        yield Hint(
            "normal",
            f"{share:.0%} of the triangles look the other way than their normals",
            "`content as model(handed left)`, or `winding clockwise`",
        )
    elif share > ASKEW:
        yield Hint(
            "normal", f"{share:.0%} of the triangles look the other way than their normals", "another type of normal"
        )


def model_change_faults(form: LayoutModel, model: Model) -> Iterator[tuple[str, str]]:
    """What goes wrong when the model is changed, written and read again: what was tried, and the fault or nothing."""
    model.extra.setdefault("original", model)
    if model.meshes and len(model.meshes[0].positions):
        mesh = model.meshes[0]
        moved = replace(mesh, positions=mesh.positions.copy())
        middle = (mesh.positions.max(axis=0) + mesh.positions.min(axis=0)) / 2
        moved.positions[0] += (middle - moved.positions[0]) / 2
        yield "a vertex moved", _fault(form, model, moved)
        yield "the mesh half as large", _fault(form, model, replace(mesh, positions=mesh.positions / 2))
        if len(mesh.triangles) > 3 and mesh.parts:
            yield "a triangle left out", _fault(form, model, _without_last(mesh))
    for animation in model.animations[:1]:
        tracks = [
            replace(track, values=track.values[::-1].copy()) if track.joint >= 0 else track
            for track in animation.tracks
        ]
        yield "an animation turned round", _animation_fault(form, model, replace(animation, tracks=tracks))
    if model.materials and not model.meshes:
        yield "a material of another name", _material_fault(form, model)


def _without_last(mesh: Mesh) -> Mesh:
    part = max(mesh.parts, key=lambda one: one.count)
    kept = np.ones(len(mesh.triangles), bool)
    kept[part.start + part.count - 1] = False
    parts = [
        replace(one, start=one.start - (one.start > part.start), count=one.count - (one is part)) for one in mesh.parts
    ]
    return replace(mesh, triangles=mesh.triangles[kept], parts=parts)


def _again(form: LayoutModel, model: Model) -> Model:
    name = model.extra["reading"].source.name
    return form.read(BytesSource(form.write(model), name))


def _fault(form: LayoutModel, model: Model, mesh: Mesh) -> str:
    try:
        read = _again(
            form, replace(model, meshes=[mesh], extra={**model.extra, "like": np.arange(len(mesh.positions))})
        )
    except VolvexError as error:
        return str(error)
    own = read.meshes[0]
    if own.triangles.shape != mesh.triangles.shape:
        return f"{len(mesh.triangles):,} triangles are read as {len(own.triangles):,}"
    size = max(1e-9, float(np.ptp(mesh.positions, axis=0).max()))
    before, after = (_centres(one) for one in (mesh, own))
    if float(np.abs(before - after).max()) > size / 50:
        return "vertices are read at other places than they were written"
    return ""


def _centres(mesh: Mesh) -> Array:
    """The middles of all triangles, each axis in order by itself: the same for the same triangles, whatever order these
    are in."""
    return np.sort(mesh.positions[mesh.triangles].mean(axis=1, dtype=np.float64), axis=0)


def _animation_fault(form: LayoutModel, model: Model, animation: Animation) -> str:
    try:
        read = _again(form, replace(model, animations=[animation, *model.animations[1:]]))
    except VolvexError as error:
        return str(error)
    own = read.animations[0]
    for one, two in zip(animation.tracks, own.tracks, strict=True):
        reach = max(1e-6, float(np.abs(one.values).max())) if len(one.values) else 1.0
        if one.values.shape != two.values.shape:
            return "a track is read with another number of keys"
        signs = (
            np.where((one.values * two.values).sum(axis=1, keepdims=True) < 0, -1, 1) if one.path == "rotation" else 1
        )
        if len(one.values) and float(np.abs(one.values - two.values * signs).max()) > reach / 50:
            return "keys are read as something else than was written"
    return ""


def _material_fault(form: LayoutModel, model: Model) -> str:
    new = [replace(model.materials[0], name="harbour"), *model.materials[1:]]
    try:
        read = _again(form, replace(model, materials=new))
    except VolvexError as error:
        return str(error)
    return "" if read.materials == new else "materials are read as something else than was written"
