"""What is wrong with a changed model, compared with the game's own: joints, weights, materials, textures, levels of detail."""

from __future__ import annotations

import itertools
from collections.abc import Iterator

import numpy as np

from volvex.asset.model.gather import Gathered
from volvex.asset.model.model import LARGEST, Model
from volvex.asset.model.open import may_be_model
from volvex.asset.model.storage import fact_in
from volvex.bench.changes import FileChange
from volvex.bench.content import current_of, original_kind, original_of
from volvex.bench.models import Whole, whole_model
from volvex.bench.workbench import Workbench
from volvex.data.check import ERROR, WARNING, Problem
from volvex.errors import VolvexError
from volvex.layout.read.blocks import Reading

TAKE = "`volvex take` with --as glb, and editing that"


def model_problems(bench: Workbench, change: FileChange) -> Iterator[Problem]:
    """The problems of one changed or added file, when it is a model or a part of one."""
    if change.what == "removed" or max(change.before or 0, change.after) > LARGEST:
        return
    kind = original_kind(bench, change.path) if change.before is not None else change.kind
    if not may_be_model(kind):
        return
    before = None
    if change.before is not None:
        try:
            before = whole_model(bench, change.path, original_of(bench))
        except VolvexError:
            return  # the game's own cannot be read: nothing can be compared
        if before is None:
            return

    def read(path: str) -> bytes:
        return (bench.files / change.source).read_bytes() if path == change.path else current_of(bench)(path)

    try:
        after = whole_model(bench, change.path, read)
    except VolvexError as error:
        yield _problem(ERROR, change, "file", error.message, error.hint or "saving it again")
        return
    if after is None:
        if before is not None and kind == "binary":
            said = f"this is no model, the game's own is a {before.opened.kind} of {before.opened.model.form}"
            yield _problem(ERROR, change, "kind", said, "`volvex swap` with a model, which converts it")
        return
    yield from _compared(change, before, after)


def _compared(change: FileChange, before: Whole | None, after: Whole) -> Iterator[Problem]:
    known = set(_faults(before)) if before is not None else set()
    for level, kind, message, hint in _faults(after):
        if (level, kind, message, hint) not in known:  # the game's own had it already
            yield _problem(level, change, kind, message, hint)


Fault = tuple[str, str, str, str]


def _faults(whole: Whole) -> Iterator[Fault]:
    found, model = whole.gathered, whole.gathered.model
    yield from _joint_faults(found, model)
    yield from _weight_faults(whole.opened.model)
    there = [material.name for material in model.materials if material.name not in found.unknown]
    known = f"one of {', '.join(there[:12])}" if there else "adding it"
    for name in found.unknown:
        yield ERROR, "material", f"not in the game: the material {name}", known
    for name in found.missing:
        yield ERROR, "texture", f"not in the game: the texture {name}", "adding it, or another texture"
    counts = [model.triangles(lod) for lod in range(model.lods)]
    for lod, (one, two) in enumerate(itertools.pairwise(counts)):
        if two > one:
            said = f"level of detail {lod + 1} has {two:,} triangles, more than the {one:,} of the one before"
            yield WARNING, "level", said, "`volvex swap --lods simplified`"


def _joint_faults(found: Gathered, model: Model) -> Iterator[Fault]:
    skeleton = model.skeleton
    for mesh in model.meshes:
        if mesh.joints is None or mesh.weights is None or skeleton is None:
            continue
        used = mesh.joints[mesh.weights > 0]
        if len(used) and int(used.max()) >= len(skeleton):
            said = f"vertices are moved by joint {int(used.max())}, the skeleton has {len(skeleton)}"
            yield ERROR, "joint", said, TAKE
    own = found.model.extra.get("original", model)
    lost = sum(track.joint < 0 for animation in own.animations for track in animation.tracks)
    if lost and skeleton is not None:
        yield ERROR, "joint", f"{lost} tracks are of joints that the skeleton has not", TAKE


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
        yield WARNING, "weight", said, TAKE


def _problem(level: str, change: FileChange, kind: str, message: str, hint: str) -> Problem:
    return Problem(level, f"model {kind}", change.path, "", "", "", message, hint)
