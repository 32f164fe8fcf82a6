"""The vertices of a game's own file: each column from how it is stored to how glTF has it, and back to the same
bits."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from volvex.asset.model.model import Array, Mesh
from volvex.asset.model.space import Space
from volvex.asset.model.storage import (
    Fact,
    fact_in,
    from_octahedron,
    from_shares,
    kept_rows,
    rounded_floats,
    shares,
    to_octahedron,
    to_weights,
    unit,
)
from volvex.errors import RefusedError
from volvex.layout.columns import AllColumns, Columns
from volvex.layout.kinds._model import COLOUR_SETS, SETS
from volvex.layout.read.blocks import Reading

WIDTH = 4  # joints of a vertex as glTF groups them


@dataclass
class Coding:
    """How one column of vertices is stored: from stored numbers to values, and back."""

    fact: Fact
    decode: Callable[[Array], Array]
    encode: Callable[[Array], Array]
    plain: Callable[[Array], Array] = lambda raw: raw  # stored numbers as what they are in the game's space
    old: Array = field(default_factory=lambda: np.zeros(0))

    def read(self) -> Array:
        self.old = self.decode(self.fact.raw())
        return self.old

    def written(self, columns: Columns, new: Array, like: Array, rescaled: bool = False) -> None:
        """Put new values into columns; rows that are as the ones that they are like keep their stored numbers."""
        raw, made = self.fact.raw(), self.encode(new)
        if rescaled:  # by other ranges: what the old numbers meant is gone
            out = made
        else:
            again = self.encode(self.old) if len(self.old) else made[:0]
            out = kept_rows(raw, self.old, new, made, like, again)
        self.fact.put(columns, out)


@dataclass
class Ranges:
    """What whole numbers of positions are multiplied with, and what is added; where in the file that stands."""

    scale: Array
    offset: Array
    where: str = ""  # range, box, or nothing: the numbers are as they are


def vertex_codings(reading: Reading, space: Space, share: bool) -> dict[str, Coding]:
    """The codings of all columns that the file has, by their names in a mesh."""
    made: dict[str, Coding] = {}
    fact = fact_in(reading, "position")
    if fact is not None:
        made["position"] = _positions(fact, space, ranges_of(reading, fact, share))
    made |= _directions(reading, space)
    scale_fact = fact_in(reading, "uv scale")
    scale = None if scale_fact is None else np.asarray(scale_fact.raw()[0], np.float64)
    for number, name in enumerate(SETS, 1):
        if (found := fact_in(reading, name)) is not None:
            made[f"uv {number}"] = _uvs(found, space, scale)
    for number, name in enumerate(COLOUR_SETS, 1):
        if (found := fact_in(reading, name)) is not None:
            made[f"colour {number}"] = _colours(found)
    return made


# positions


def ranges_of(reading: Reading, fact: Fact, share: bool) -> Ranges:
    """The ranges of whole numbers: of fields for them, of the box around the whole, or none."""
    slot = fact.kind
    plain = Ranges(np.ones(3), np.zeros(3))
    if not slot.largest:
        return plain
    scale, offset = fact_in(reading, "position scale"), fact_in(reading, "position offset")
    if scale is not None or offset is not None:
        one = np.ones(3) if scale is None else np.broadcast_to(np.asarray(scale.raw()[0], np.float64), (3,))
        two = np.zeros(3) if offset is None else np.broadcast_to(np.asarray(offset.raw()[0], np.float64), (3,))
        return Ranges(one / (slot.largest if share else 1), two, "range")
    low, high = fact_in(reading, "box low"), fact_in(reading, "box high")
    if low is not None and high is not None and not low.block.block.repeats and not low.kind.largest:
        least, most = (np.asarray(one.raw()[0], np.float64) for one in (low, high))
        if slot.signed:
            return Ranges((most - least) / (2 * slot.largest), (most + least) / 2, "box")
        return Ranges((most - least) / slot.largest, least, "box")
    return Ranges(np.full(3, 1 / slot.largest), np.zeros(3)) if share else plain


def _positions(fact: Fact, space: Space, ranges: Ranges) -> Coding:
    slot = fact.kind
    if not slot.largest:
        return Coding(
            fact,
            lambda raw: space.points(np.asarray(raw, np.float64)).astype(np.float32),
            lambda values: rounded_floats(space.points(np.asarray(values, np.float64), True), slot),
            lambda raw: np.asarray(raw, np.float64),
        )

    def plain(raw: Array) -> Array:
        return np.asarray(raw, np.float64) * ranges.scale + ranges.offset

    def decode(raw: Array) -> Array:
        return space.points(plain(raw)).astype(np.float32)

    def encode(values: Array) -> Array:
        exact = space.points(np.asarray(values, np.float64), True) - ranges.offset
        made = np.rint(exact / np.where(ranges.scale == 0, 1, ranges.scale))
        low = -slot.largest - 1 if slot.signed else 0
        if len(made) and (made.min() < low or made.max() > slot.largest):
            raise RefusedError(
                f"a vertex lies beyond the numbers from {low:,} to {slot.largest:,} in which positions are stored",
                "a smaller model",
            )
        return made.astype(np.int64)

    return Coding(fact, decode, encode, plain)


def wider_ranges(fact: Fact, ranges: Ranges, space: Space, values: Array, share: bool) -> Ranges | None:
    """Ranges that hold new positions; None when the file's own do, or has none that could change."""
    slot = fact.kind
    if not ranges.where or not len(values):
        return None
    exact = space.points(np.asarray(values, np.float64), True)
    low = -slot.largest if slot.signed else 0
    made = np.rint((exact - ranges.offset) / np.where(ranges.scale == 0, 1, ranges.scale))
    flat = bool(((ranges.scale == 0) & (np.ptp(exact, axis=0) > 0)).any())
    fits = made.min() >= low and made.max() <= slot.largest and not flat
    if fits and ranges.where == "range":
        return None
    least, most = exact.min(axis=0), exact.max(axis=0)
    if ranges.where == "box":
        steps = slot.largest - low
        wanted = Ranges((most - least) / steps, least if not slot.signed else (most + least) / 2, "box")
        same = np.allclose(wanted.scale, ranges.scale, rtol=1e-6) and np.allclose(wanted.offset, ranges.offset)
        return None if same and fits else wanted
    middle = (most + least) / 2 if slot.signed else least
    reach = np.maximum((most - least) / (slot.largest - low), 1e-12)
    if fact_count(ranges.scale) == 1:
        reach = np.full(3, reach.max())
    reach = reach.astype(np.float32).astype(np.float64) * (1 + 1e-6)  # so that rounding it leaves room
    return Ranges(reach, middle.astype(np.float32).astype(np.float64), "range")


def fact_count(scale: Array) -> int:
    """1 when all three scales are the same, as where a file has one for all."""
    return 1 if bool((scale == scale[0]).all()) else 3


def put_ranges(columns: AllColumns, reading: Reading, ranges: Ranges, largest: int, share: bool) -> Ranges:
    """Put ranges into their fields; the ranges as these hold them."""
    scale, offset = fact_in(reading, "position scale"), fact_in(reading, "position offset")
    stored = ranges.scale * (largest if share else 1)
    for fact, values in ((scale, stored), (offset, ranges.offset)):
        if fact is None:
            continue
        count = sum(slot.count for slot in fact.slots)
        row = values[:count] if count > 1 else np.array([values.max()])
        fact.put(columns[fact.block.block.name], rounded_floats(row[None], fact.kind))
    held = [
        None if fact is None else np.asarray(fact.raw(columns[fact.block.block.name])[0], np.float64)
        for fact in (scale, offset)
    ]
    one = ranges.scale if held[0] is None else np.broadcast_to(held[0], (3,)) / (largest if share else 1)
    two = ranges.offset if held[1] is None else np.broadcast_to(held[1], (3,))
    return Ranges(np.asarray(one), np.asarray(two), "range")


# directions


def _directions(reading: Reading, space: Space) -> dict[str, Coding]:
    made: dict[str, Coding] = {}
    for name in ("normal", "tangent"):
        plain, folded = fact_in(reading, name), fact_in(reading, f"octahedral {name}")
        if name == "normal" and plain is not None:
            made[name] = _normals(plain, space)
        elif name == "normal" and folded is not None:
            made[name] = _folded_normals(folded, space)
        elif plain is not None or folded is not None:
            found = plain if plain is not None else folded
            assert found is not None
            made[name] = _tangents(found, space, plain is None)
            if (sign := fact_in(reading, "tangent sign")) is not None:
                made["tangent sign"] = _signs(sign, space)
    return made


def _normals(fact: Fact, space: Space) -> Coding:
    slot = fact.kind
    return Coding(
        fact,
        lambda raw: unit(space.directions(shares(raw, slot, True))),
        lambda values: from_shares(space.directions(np.asarray(values, np.float64), True), slot, True),
    )


def _folded_normals(fact: Fact, space: Space) -> Coding:
    slot = fact.kind
    return Coding(
        fact,
        lambda raw: unit(space.directions(from_octahedron(shares(raw, slot, True)))),
        lambda values: from_shares(to_octahedron(space.directions(np.asarray(values, np.float64), True)), slot, True),
    )


def _tangents(fact: Fact, space: Space, folded: bool) -> Coding:
    """Tangents as four numbers, the last of which is their hand; where the file has that elsewhere, or not, it is 1."""
    slot, has_hand = fact.kind, 3 in fact.columns

    def decode(raw: Array) -> Array:
        values = shares(raw, slot, True)
        plain = from_octahedron(values) if folded else values[:, :3]
        hand = np.where(values[:, 3:4] < 0, -1, 1) if has_hand else np.ones((len(raw), 1))
        turned = space.tangents(np.concatenate([plain, hand], axis=1))
        return np.concatenate([unit(turned[:, :3]), turned[:, 3:]], axis=1).astype(np.float32)

    def encode(values: Array) -> Array:
        back = space.tangents(np.asarray(values, np.float64), True)
        plain = to_octahedron(back[:, :3]) if folded else back[:, : 4 if has_hand else 3]
        return from_shares(plain, slot, True)

    return Coding(fact, decode, encode)


def _signs(fact: Fact, space: Space) -> Coding:
    slot = fact.kind
    turn = space.hand * (-1 if space.v_up else 1)

    def encode(values: Array) -> Array:
        return from_shares(np.asarray(values, np.float64) * turn, slot, True)

    return Coding(fact, lambda raw: (np.where(shares(raw, slot, True) < 0, -1, 1) * turn).astype(np.float32), encode)


# textures, colours


def _uvs(fact: Fact, space: Space, scale: Array | None) -> Coding:
    slot = fact.kind

    def decode(raw: Array) -> Array:
        values = np.asarray(raw, np.float64) * scale if scale is not None and slot.largest else shares(raw, slot)
        return space.uvs(np.asarray(values)).astype(np.float32)

    def encode(values: Array) -> Array:
        back = space.uvs(np.asarray(values, np.float64))
        if scale is None or not slot.largest:
            return from_shares(back, slot)
        made, low = np.rint(back / scale), -slot.largest - 1 if slot.signed else 0
        if len(made) and (made.min() < low or made.max() > slot.largest):
            raise RefusedError("a place in the texture is too far away for how these are stored", "smaller UVs")
        return made.astype(np.int64)

    return Coding(fact, decode, encode)


def _colours(fact: Fact) -> Coding:
    slot, which = fact.kind, list(fact.columns)

    def decode(raw: Array) -> Array:
        made = np.ones((len(raw), 4), np.float32)
        made[:, which] = shares(raw, slot)
        return made

    return Coding(fact, decode, lambda values: from_shares(values[:, which], slot))


# joints and weights


def weights_of(reading: Reading) -> tuple[Fact | None, Fact | None]:
    return fact_in(reading, "joints"), fact_in(reading, "weights")


def decoded_weights(joints: Fact, weights: Fact | None) -> Array:
    """The weights of each vertex, as many as joints; the last is what the others leave where the file has one less."""
    count = sum(slot.count for slot in joints.slots)
    rows = len(joints.raw())
    if weights is None:
        made = np.zeros((rows, count), np.float64)
        made[:, 0] = 1
        return made
    given = shares(weights.raw(), weights.kind).astype(np.float64)
    if given.shape[1] < count:
        given = np.concatenate([given, np.maximum(0, 1 - given.sum(axis=1, keepdims=True))], axis=1)
    given = given[:, :count]
    if given.shape[1] < count:
        given = np.concatenate([given, np.zeros((rows, count - given.shape[1]))], axis=1)
    return given


def as_exported(joints: Array, weights: Array) -> tuple[Array, Array]:
    """Joints and weights as glTF has them: in groups of four, weights that sum to 1, joint 0 where there is no
    weight."""
    total = weights.sum(axis=1, keepdims=True)
    made = (weights / np.where(total <= 0, 1, total)).astype(np.float32)
    made[total[:, 0] <= 0, 0] = 1
    joints, made = _joined(joints, made)
    pad = -made.shape[1] % WIDTH
    if pad:
        made = np.concatenate([made, np.zeros((len(made), pad), np.float32)], axis=1)
        joints = np.concatenate([joints, np.zeros((len(joints), pad), joints.dtype)], axis=1)
    return np.where(made > 0, joints, 0).astype(np.uint16), made


def _joined(joints: Array, weights: Array) -> tuple[Array, Array]:
    """Joints of which each vertex has each once, as glTF wants them: of one that is there twice the weights are
    added."""
    twice = np.zeros(len(joints), bool)
    for one in range(joints.shape[1]):
        for other in range(one):
            twice |= (joints[:, one] == joints[:, other]) & (weights[:, one] > 0) & (weights[:, other] > 0)
    if not bool(twice.any()):
        return joints, weights
    made = weights.copy()
    for one in range(1, joints.shape[1]):
        for other in range(one):
            rows = twice & (joints[:, one] == joints[:, other]) & (made[:, one] > 0)
            made[rows, other] += made[rows, one]
            made[rows, one] = 0
    return joints, made


def put_weights(
    columns: AllColumns, joints: Fact, weights: Fact | None, values: tuple[Array, Array], like: Any
) -> None:
    """Put joints (numbers as they are stored) and weights into columns; `like`: the rows whose stored numbers stay, or
    -1."""
    new_joints, new_weights = values
    count = sum(slot.count for slot in joints.slots)
    order = np.argsort(-new_weights, axis=1, kind="stable")[:, :count]
    kept, numbers = np.take_along_axis(new_weights, order, 1), np.take_along_axis(new_joints, order, 1)
    if kept.shape[1] < count:
        rest = count - kept.shape[1]
        kept = np.concatenate([kept, np.zeros((len(kept), rest))], axis=1)
        numbers = np.concatenate([numbers, np.zeros((len(kept), rest), numbers.dtype)], axis=1)
    made = numbers.astype(np.int64)
    rows = np.flatnonzero(like >= 0)
    made[rows] = joints.raw()[like[rows]]
    joints.put(columns[joints.block.block.name], made)
    if weights is None:
        return
    stored = to_weights(kept, weights.kind)
    own = sum(slot.count for slot in weights.slots)
    out = stored[:, :own].astype(weights.raw().dtype.newbyteorder("=") if not weights.kind.largest else np.int64)
    out[rows] = weights.raw()[like[rows]]
    weights.put(columns[weights.block.block.name], out)


def merge_signs(mesh: Mesh, codings: dict[str, Coding]) -> None:
    """Give the tangents of a mesh their hand from the field that has it."""
    if mesh.tangents is not None and "tangent sign" in codings:
        turned = mesh.tangents.copy()
        turned[:, 3] = codings["tangent sign"].read()[:, 0]
        mesh.tangents = turned
