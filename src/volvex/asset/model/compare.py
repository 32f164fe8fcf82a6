"""What differs between two states of a model, in words."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from volvex.asset.model.model import Mesh, Model
from volvex.asset.model.tracks import same_track


def differing_vertices(before: Model, after: Model) -> int:
    """How many vertices are not as they were; of meshes with more or fewer also how many."""
    total = 0
    for one, two in zip(before.meshes, after.meshes, strict=False):
        total += _differing(one, two)
    return total


def _differing(before: Mesh, after: Mesh) -> int:
    count = min(len(before.positions), len(after.positions))
    changed = np.zeros(count, bool)
    old, new = before.columns(), after.columns()
    for name in old.keys() & new.keys():
        one, two = old[name][:count], new[name][:count]
        if one.shape != two.shape:
            return count
        changed |= (one != two).reshape(count, -1).any(axis=1)
    return int(changed.sum()) + abs(len(before.positions) - len(after.positions))


def differences(before: Model, after: Model) -> Iterator[str]:
    """What differs, a line each: vertices, triangles, size, joints, animations, materials."""
    vertices = differing_vertices(before, after)
    if vertices:
        yield f"{vertices:,} of {max(before.vertices, after.vertices):,} vertices differ"
    for lod in range(max(before.lods, after.lods)):
        one, two = before.triangles(lod), after.triangles(lod)
        if one != two:
            level = f" of level {lod}" if lod else ""
            yield f"{one:,} triangles{level} -> {two:,}"
    boxes = [model.box() for model in (before, after)]
    if boxes[0] is not None and boxes[1] is not None:
        sizes = [" x ".join(f"{one:.3g}" for one in (high - low).tolist()) for low, high in (boxes[0], boxes[1])]
        if sizes[0] != sizes[1]:
            yield f"{sizes[0]} m -> {sizes[1]} m"
    yield from _skeletons(before, after)
    yield from _animations(before, after)
    yield from _materials(before, after)


def _skeletons(before: Model, after: Model) -> Iterator[str]:
    one, two = before.skeleton, after.skeleton
    if one is None or two is None:
        if one is not two:
            yield f"{len(one) if one else 0} joints -> {len(two) if two else 0}"
        return
    if one.names != two.names:
        yield f"{len(one)} joints -> {len(two)}"
        return
    moved = [
        name
        for at, name in enumerate(one.names)
        if not (
            np.allclose(one.translations[at], two.translations[at], atol=1e-5)
            and np.allclose(one.rotations[at], two.rotations[at], atol=1e-5)
        )
    ]
    if moved:
        yield f"joints in another place: {', '.join(moved[:8])}"


def _animations(before: Model, after: Model) -> Iterator[str]:
    for one, two in zip(before.animations, after.animations, strict=False):
        old = {(track.joint, track.path): track for track in one.tracks}
        new = {(track.joint, track.path): track for track in two.tracks}
        changed = [key for key in old.keys() & new.keys() if not same_track(old[key], new[key])]
        other = len(old.keys() ^ new.keys())
        if changed or other:
            yield (
                f"{len(changed) + other} of {len(old.keys() | new.keys())} tracks differ, {one.duration:.2f} s -> "
                f"{two.duration:.2f} s"
            )
    if len(before.animations) != len(after.animations):
        yield f"{len(before.animations)} animations -> {len(after.animations)}"


def _materials(before: Model, after: Model) -> Iterator[str]:
    old, new = ({material.name: material for material in model.materials} for model in (before, after))
    changed = [name for name in old.keys() & new.keys() if old[name] != new[name]]
    for name in sorted(changed):
        yield f"material {name} differs"
    for name in sorted(new.keys() - old.keys()):
        yield f"material {name} is new"
    both = before.pictures.keys() & after.pictures.keys()
    for name in sorted(name for name in both if before.pictures[name] != after.pictures[name]):
        yield f"texture {name} inside of it differs"
    for name in sorted(old.keys() - new.keys()):
        yield f"material {name} is gone"
