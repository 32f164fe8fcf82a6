"""The skeleton of a game's own file: names, parents and the pose in which meshes are bound; and back."""

from __future__ import annotations

import numpy as np

from volvex.asset.model.layout_texts import numbers_of, texts_of
from volvex.asset.model.model import MOST_JOINTS, Array, Skeleton, check_counts, check_skeleton, order_of
from volvex.asset.model.space import Space, matrix_of, parts_of, unit_rows, world_of
from volvex.asset.model.storage import (
    Fact,
    fact_in,
    from_shares,
    kept_rows,
    rounded_floats,
    shares,
)
from volvex.errors import FRESH, FormatError, RefusedError
from volvex.layout.columns import AllColumns
from volvex.layout.read.blocks import Reading

LOCAL, WORLD, INVERSE = ("local", "world", "inverse")


def skeleton_of(reading: Reading, space: Space, spec: dict[str, str | int]) -> Skeleton | None:
    """The skeleton of a file in glTF's space; None when it has no joints. FormatError for one that cannot be."""
    parents = numbers_of(reading, "joint parent")
    if parents is None:
        return None
    count, name = len(parents), reading.source.name
    check_counts(name, {"joints": (count, MOST_JOINTS)})
    parents = np.where((parents < 0) | (parents == _none(reading)), -1, parents)
    names = joint_names(reading, count)
    zero, one = np.zeros((count, 3)), np.ones((count, 3))
    turn = np.tile([0.0, 0.0, 0.0, 1.0], (count, 1))
    moves, scales, turns = (
        _values(reading, what, missing)
        for what, missing in (("joint translation", zero), ("joint scale", one), ("joint rotation", turn))
    )
    check_skeleton(name, Skeleton(names, parents, moves, turns, scales))
    order = order_of(parents)
    bound = _bind(reading, spec, parents, order)
    if fact_in(reading, "joint translation") is None and bound is not None:
        moves, turns, scales = parts_of(_local_of(bound, parents))
    local = matrix_of(moves, turns, scales)
    world = bound if bound is not None else world_of(parents, local, order)
    with np.errstate(all="ignore"):
        solid = np.abs(np.linalg.det(world[:, :3, :3])) > 1e-12
    if not bool(solid.all()):
        raise FormatError(name, f"joint {int(np.argmin(solid))} has a matrix that flattens everything", hint=FRESH)
    inverse = space.matrices(np.linalg.inv(world))
    inverse[:, 3] = (0, 0, 0, 1)
    made = Skeleton(
        names,
        parents,
        space.points(moves).astype(np.float32),
        unit_rows(space.quaternions(turns)),
        space.scales(scales).astype(np.float32),
        inverse.astype(np.float32),
    )
    check_skeleton(name, made)
    return made


def _none(reading: Reading) -> int:
    """The number that no joint can have as its parent: the largest of its field."""
    fact = fact_in(reading, "joint parent")
    return -1 if fact is None or fact.kind.signed else fact.kind.largest


def joint_names(reading: Reading, count: int) -> list[str]:
    """The joints' names; of those that have hashes or nothing, these or their number."""
    names = texts_of(reading, "joint name")
    if names is None:
        hashes = numbers_of(reading, "joint hash")
        names = [f"joint_{one:08x}" for one in hashes.tolist()] if hashes is not None else [""] * count
    seen: dict[str, int] = {}
    made = []
    for number, name in enumerate(names):
        plain = name or f"joint_{number}"
        seen[plain] = seen.get(plain, 0) + 1
        made.append(plain if seen[plain] == 1 else f"{plain}~{seen[plain]}")
    return made


def _values(reading: Reading, what: str, missing: Array) -> Array:
    fact = fact_in(reading, what)
    if fact is None:
        return missing
    raw = fact.raw()
    values = shares(raw, fact.kind, True) if what.endswith("rotation") else np.asarray(raw, np.float64)
    made = missing.copy()
    made[:, list(fact.columns)] = values
    return made


def _bind(reading: Reading, spec: dict[str, str | int], parents: Array, order: list[int]) -> Array | None:
    """The matrices of joints in the model's space in the pose in which meshes are bound, when the file gives them."""
    matrix, move = fact_in(reading, "bind matrix"), fact_in(reading, "bind translation")
    count, how = len(parents), str(spec["bind"])
    if matrix is not None:
        found = whole_matrices(np.asarray(matrix.raw(), np.float64), str(spec["rows"]))
    elif move is not None:
        turn = _values(reading, "bind rotation", np.tile([0.0, 0.0, 0.0, 1.0], (count, 1)))
        found = matrix_of(_values(reading, "bind translation", np.zeros((count, 3))), turn, np.ones((count, 3)))
    else:
        return None
    if not bool(np.isfinite(found).all()):
        raise FormatError(reading.source.name, "the matrix of a joint is no number", hint=FRESH)
    if how == LOCAL:
        return world_of(parents, found, order)
    if how == INVERSE:
        with np.errstate(all="ignore"):
            solid = np.abs(np.linalg.det(found[:, :3, :3])) > 1e-12
        if not bool(solid.all()):
            raise FormatError(
                reading.source.name, f"joint {int(np.argmin(solid))} has a matrix that flattens everything", hint=FRESH
            )
        return np.asarray(np.linalg.inv(found))
    return found


def whole_matrices(raw: Array, rows: str) -> Array:
    """4 x 4 matrices of 16 or 12 numbers, column by column or row by row."""
    if raw.shape[1] == 16:
        made = raw.reshape(-1, 4, 4)
        return made if rows == "rows" else made.transpose(0, 2, 1)
    made = np.tile(np.eye(4), (len(raw), 1, 1))
    own = raw[:, :12]
    made[:, :3] = own.reshape(-1, 3, 4) if rows == "rows" else own.reshape(-1, 4, 3).transpose(0, 2, 1)
    return made


def _local_of(world: Array, parents: Array) -> Array:
    made = world.copy()
    inner = parents >= 0
    made[inner] = np.linalg.inv(world[parents[inner]]) @ world[inner]
    return made


# back


def put_skeleton(
    columns: AllColumns, reading: Reading, old: Skeleton, new: Skeleton, space: Space, spec: dict[str, str | int]
) -> bool:
    """Put a skeleton's pose into columns; whether anything in it changed.

    RefusedError when joints were added, which meshes and animations of the game would not find.
    """
    where = {name: number for number, name in enumerate(new.names)}
    rows = [where.get(name, -1) for name in old.names]
    if all(row < 0 for row in rows):
        return False
    added = [name for name in new.names if name not in old.names]
    if added:
        raise RefusedError(
            f"the game's skeleton has no joint {added[0]}" + (f" (and {len(added) - 1} more)" if added[1:] else ""),
            "the joints of the game, under their names",
        )
    picked = [max(0, row) for row in rows]
    like = np.where(np.array(rows) >= 0, np.arange(len(rows)), -1)
    values = {
        "joint translation": (old.translations, new.translations[picked]),
        "joint rotation": (old.rotations, new.rotations[picked]),
        "joint scale": (old.scales, new.scales[picked]),
    }
    moved = False
    for what, (before, after) in values.items():
        after = np.where(np.array(rows)[:, None] >= 0, after, before)
        same = np.asarray(np.isclose(before, after, rtol=0, atol=1e-6).all(axis=1))
        if what == "joint rotation":  # a turn and its negative are the same
            same |= np.isclose(before, -after, rtol=0, atol=1e-6).all(axis=1)
        if bool(same.all()):
            continue
        fact = fact_in(reading, what)
        if fact is None and not _has_bind(reading):
            raise RefusedError(f"this format gives joints no {what.removeprefix('joint ')}", "the pose of the original")
        moved = True
        if fact is not None:
            _put_pose(columns, fact, what, (before, np.where(same[:, None], before, after)), like, space)
    if moved:
        _put_bind(columns, reading, old, new, rows, space, spec)
    return moved


def _has_bind(reading: Reading) -> bool:
    return any(fact_in(reading, what) is not None for what in ("bind matrix", "bind translation"))


def _put_pose(
    columns: AllColumns, fact: Fact, what: str, values: tuple[Array, Array], like: Array, space: Space
) -> None:
    def stored(one: Array) -> Array:
        exact = np.asarray(one, np.float64)
        if what == "joint translation":
            return rounded_floats(space.points(exact, True), fact.kind)[:, list(fact.columns)]
        if what == "joint rotation":
            return from_shares(space.quaternions(exact, True), fact.kind, True)[:, list(fact.columns)]
        return rounded_floats(space.scales(exact, True), fact.kind)[:, list(fact.columns)]

    before, after = values
    out = kept_rows(fact.raw(), before, after, stored(after), like, stored(before))
    fact.put(columns[fact.block.block.name], out)


def _put_bind(
    columns: AllColumns,
    reading: Reading,
    old: Skeleton,
    new: Skeleton,
    rows: list[int],
    space: Space,
    spec: dict[str, str | int],
) -> None:
    """The matrices of the pose, made of the new one, where a file gives them."""
    matrix = fact_in(reading, "bind matrix")
    if matrix is None:
        return
    parents, order = old.parents, order_of(old.parents)
    picked = [max(0, row) for row in rows]
    local = matrix_of(
        np.where(np.array(rows)[:, None] >= 0, new.translations[picked], old.translations),
        np.where(np.array(rows)[:, None] >= 0, new.rotations[picked], old.rotations),
        np.where(np.array(rows)[:, None] >= 0, new.scales[picked], old.scales),
    )
    world = world_of(parents, local, order)
    how = str(spec["bind"])
    found = local if how == LOCAL else np.linalg.inv(world) if how == INVERSE else world
    game = space.matrices(found, True)
    game = game if str(spec["rows"]) == "rows" else game.transpose(0, 2, 1)
    count = sum(slot.count for slot in matrix.slots)
    if count == 16:
        flat = game.reshape(-1, 16)
    else:
        flat = (game[:, :3, :] if str(spec["rows"]) == "rows" else game[:, :, :3]).reshape(-1, 12)
    before = whole_matrices(np.asarray(matrix.raw(), np.float64), str(spec["rows"]))
    again = whole_matrices(flat, str(spec["rows"]))
    near = np.asarray(np.isclose(before, again, rtol=1e-5, atol=1e-6).all(axis=(1, 2)))
    flat = np.where(near[:, None], matrix.raw(), flat)
    matrix.put(columns[matrix.block.block.name], rounded_floats(flat, matrix.kind))
