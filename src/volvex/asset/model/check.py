"""What is wrong with a model: joints, weights, materials, textures, levels of detail."""

from __future__ import annotations

import itertools
from collections.abc import Iterator

import numpy as np

from volvex.asset.kind import Fault
from volvex.asset.model.gather import Gathered
from volvex.asset.model.model import Model
from volvex.asset.model.storage import fact_in
from volvex.asset.model.whole import WholeModel
from volvex.layout.read.blocks import Reading

TAKE = "`volvex take` with --as glb, and editing that"


def faults_of(whole: WholeModel) -> Iterator[Fault]:
    """What is wrong with a model as its game has it."""
    found, model = whole.gathered, whole.gathered.model
    yield from _joint_faults(found, model)
    yield from _weight_faults(whole.own)
    there = [material.name for material in model.materials if material.name not in found.unknown]
    known = f"one of {', '.join(there[:12])}" if there else "adding it"
    for name in found.unknown:
        yield Fault("error", "material", f"not in the game: the material {name}", known)
    for name in found.missing:
        yield Fault("error", "texture", f"not in the game: the texture {name}", "adding it, or another texture")
    counts = [model.triangles(lod) for lod in range(model.lods)]
    for lod, (one, two) in enumerate(itertools.pairwise(counts)):
        if two > one:
            said = f"level of detail {lod + 1} has {two:,} triangles, more than the {one:,} of the one before"
            yield Fault("warning", "level", said, "`volvex swap --lods simplified`")


def _joint_faults(found: Gathered, model: Model) -> Iterator[Fault]:
    skeleton = model.skeleton
    for mesh in model.meshes:
        if mesh.joints is None or mesh.weights is None or skeleton is None:
            continue
        used = mesh.joints[mesh.weights > 0]
        if len(used) and int(used.max()) >= len(skeleton):
            said = f"vertices are moved by joint {int(used.max())}, the skeleton has {len(skeleton)}"
            yield Fault("error", "joint", said, TAKE)
    own = found.model.extra.get("original", model)
    lost = sum(track.joint < 0 for animation in own.animations for track in animation.tracks)
    if lost and skeleton is not None:
        yield Fault("error", "joint", f"{lost} tracks are of joints that the skeleton has not", TAKE)


def _weight_faults(model: Model) -> Iterator[Fault]:
    """Weights whose stored numbers do not sum to the largest, as games expect of whole numbers."""
    reading = model.extra.get("reading")
    if not isinstance(reading, Reading):
        return
    joints, weights = fact_in(reading, "joints"), fact_in(reading, "weights")
    if joints is None or weights is None or not weights.kind.largest:
        return
    raw = np.asarray(weights.raw(), np.int64)
    if raw.shape[1] < sum(slot.count for slot in joints.slots):
        return  # the last is what the others leave
    wrong = int((raw.sum(axis=1) != weights.kind.largest).sum())
    if wrong:
        said = f"the weights of {wrong:,} vertices do not sum to {weights.kind.largest}"
        yield Fault("warning", "weight", said, TAKE)
