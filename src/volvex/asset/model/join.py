"""An edited mesh as the game's own: which of its vertices are whose, and one mesh of all its parts.

Programs put vertices in another order, split meshes by material, leave columns out. Each vertex is like one of the
original: by its number where a file has as many, else by all that it has, else by where it is. Vertices of the original
keep their order.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from volvex.asset.model.model import COLLISION, DRAWN, Array, Mesh, Model, Morph, Part
from volvex.asset.model.topology import nearest_rows, used_rows
from volvex.errors import RefusedError

CLOSE = 1e-6  # what differs by less is the same


@dataclass
class Piece:
    """A part of the edited model: its triangles by vertices of its mesh, and the part of the original that it is
    like."""

    mesh: Mesh
    part: Part
    like: int


def pieces_of_edit(base: Mesh, edited: Model, names: Mapping[int, int]) -> list[Piece]:
    """The parts of the edited model, each with the one of the original that it is like."""
    taken: set[int] = set()
    made = []
    for mesh in edited.meshes:
        for part in mesh.parts:
            if not part.count:
                continue
            own = replace(part, material=names.get(part.material, -1))
            like = _like_part(base, own, taken)
            if like >= 0:
                taken.add(like)
                before = base.parts[like]
                own.name = before.name
                own.material = own.material if own.material >= 0 else before.material
            made.append(Piece(mesh, own, like))
    return made


def _like_part(base: Mesh, part: Part, taken: set[int]) -> int:
    """The part of the original that one is: of its level, use and material, or of its name; else a free one of its
    level."""
    free = [n for n, one in enumerate(base.parts) if n not in taken and (one.lod, one.use) == (part.lod, part.use)]
    same = [n for n in free if base.parts[n].material == part.material]
    named = [n for n in same or free if part.name and base.parts[n].name == part.name]
    if named or same:
        return (named or same)[0]
    known = any(one.material == part.material for one in base.parts)
    return free[0] if free and not known else -1


def kept_pieces(base: Mesh, edited: Model, pieces: list[Piece], notes: list[str]) -> list[Piece]:
    """Collision shapes and levels of detail of which the file has nothing: they stay."""
    there = {(piece.part.lod, piece.part.use) for piece in pieces}
    kept = []
    for number, part in enumerate(base.parts):
        if (part.lod, part.use) in there or (part.lod, part.use) == (0, DRAWN):
            continue
        what = "the collision shape" if part.use == COLLISION else f"level of detail {part.lod}"
        notes.append(f"{what} is not in the file, and stays as it was")
        kept.append(Piece(base, replace(part), number))
    return kept


def joined(base: Mesh, pieces: Sequence[Piece], numbers: Array) -> tuple[Mesh, Array]:
    """All pieces as one mesh; and for each vertex the one of the original that it is like.

    Vertices of the original keep their order; those that are new stand behind them.
    """
    held = _Rows(base)
    for piece in pieces:
        own = piece.mesh.triangles[piece.part.start : piece.part.start + piece.part.count].astype(np.int64)
        rows = used_rows(own, len(piece.mesh.positions))
        like, exact = _matched(base, piece, rows)
        held.add(piece, own, rows, like, exact)
    return held.mesh(pieces, numbers)


def _matched(base: Mesh, piece: Piece, rows: Array) -> tuple[Array, Array]:
    """For vertices of a piece the rows of the original that they are like, and whether they are the same."""
    if piece.mesh is base:
        return rows, np.ones(len(rows), bool)
    old, new = base.columns(), piece.mesh.columns()
    names = [name for name in old if name in new and name not in ("joints", "weights")]
    if len(piece.mesh.positions) == len(base.positions):
        same = np.ones(len(rows), bool)
        for name in names:
            same &= _near(old[name][rows], new[name][rows])
        return rows, same
    if 0 <= piece.like < len(base.parts):
        part = base.parts[piece.like]
        own = used_rows(base.triangles[part.start : part.start + part.count], len(base.positions))
    else:
        own = np.arange(len(base.positions))
    names = [name for name in names if name != "tangent"]
    like = _same_in_order([old[name][own] for name in names], [new[name][rows] for name in names])
    lost = like < 0
    found = np.where(lost, 0, own[np.maximum(like, 0)]) if len(own) else np.full(len(rows), -1)
    if lost.any() and len(own):
        found[lost] = own[nearest_rows(base.positions[own], piece.mesh.positions[rows[lost]])]
    return found, ~lost


def _near(one: Array, two: Array) -> Array:
    return np.asarray(np.isclose(one, two, rtol=0, atol=CLOSE).reshape(len(one), -1).all(axis=1))


def _same_in_order(old: Sequence[Array], new: Sequence[Array]) -> Array:
    """For each new row an old one that is the same to six digits, or -1; of several that are the same each is taken in
    turn."""
    if not len(old[0]) or not len(new[0]):
        return np.full(len(new[0]), -1, np.int64)
    both = [
        np.concatenate(
            [np.rint(column.reshape(len(column), -1).astype(np.float64) * 1e5) for column in columns], axis=1
        )
        for columns in (old, new)
    ]
    whole = np.ascontiguousarray(np.concatenate(both).astype(np.int64))
    _, inverse = np.unique(whole.view(np.dtype((np.void, whole.shape[1] * 8)))[:, 0], return_inverse=True)
    inverse = np.asarray(inverse).reshape(-1)
    count = len(both[0])
    ranks = [_ranks(inverse[:count]), _ranks(inverse[count:])]
    held = np.bincount(inverse[:count], minlength=int(inverse.max()) + 1)
    table = np.full((len(held), int(ranks[0].max()) + 1), -1, np.int64)
    table[inverse[:count], ranks[0]] = np.arange(count)
    which = inverse[count:]
    return np.where(held[which] > 0, table[which, np.minimum(ranks[1], np.maximum(held[which] - 1, 0))], -1)


def _ranks(keys: Array) -> Array:
    """For each key how many of the same stand before it."""
    order = np.argsort(keys, kind="stable")
    ordered = keys[order]
    first = np.append(True, ordered[1:] != ordered[:-1])
    starts = np.maximum.accumulate(np.where(first, np.arange(len(keys)), 0))
    made = np.empty(len(keys), np.int64)
    made[order] = np.arange(len(keys)) - starts
    return made


class _Rows:
    """The vertices of a mesh that is put together of pieces: places of the original's, and new ones behind them."""

    def __init__(self, base: Mesh) -> None:
        self.base = base
        count = len(base.positions)
        self.claimed = np.full(count, -1, np.int64)  # by which piece
        self.source = np.full(count, -1, np.int64)  # and which of its rows
        self.exact = np.zeros(count, bool)
        self.extra: list[tuple[int, Array, Array]] = []  # pieces, their rows, what they are like
        self.extras = 0
        self.triangles: list[Array] = []
        self.pieces = 0

    def add(self, piece: Piece, own: Array, rows: Array, like: Array, exact: Array) -> None:
        """Put the vertices of a piece where they belong."""
        number, place = self.pieces, np.full(len(rows), -1, np.int64)
        self.pieces += 1
        for wanted in (exact, ~exact):
            at = np.flatnonzero(wanted & (like >= 0))
            at = at[np.unique(like[at], return_index=True)[1]]  # one for each row of the original
            free = self.claimed[like[at]] < 0
            shared = ~free & self.exact[like[at]] & exact[at]
            place[at[free | shared]] = like[at[free | shared]]
            taken = at[free]
            self.claimed[like[taken]], self.source[like[taken]] = number, rows[taken]
            self.exact[like[taken]] = exact[taken]
        twice = (place < 0) & exact & (like >= 0)
        twice[twice] = self.exact[like[twice]]
        place[twice] = like[twice]
        left = np.flatnonzero(place < 0)
        place[left] = len(self.base.positions) + self.extras + np.arange(len(left))
        if len(left):
            self.extra.append((number, rows[left], like[left]))
            self.extras += len(left)
        where = np.zeros(len(piece.mesh.positions), np.int64)
        where[rows] = place
        self.triangles.append(where[own])

    def mesh(self, pieces: Sequence[Piece], numbers: Array) -> tuple[Mesh, Array]:
        """The mesh and what its vertices are like; vertices of the original that nothing uses any more are left out."""
        base = self.base
        before = np.zeros(len(base.positions), bool)
        before[base.triangles.reshape(-1)] = True
        kept = np.flatnonzero((self.claimed >= 0) | ~before)
        where = np.full(len(base.positions) + self.extras, -1, np.int64)
        where[kept] = np.arange(len(kept))
        where[len(base.positions) :] = len(kept) + np.arange(self.extras)
        like = np.concatenate([kept, *(one for _, _, one in self.extra)]).astype(np.int64)
        owner = np.concatenate([self.claimed[kept], *(np.full(len(rows), n) for n, rows, _ in self.extra)])
        source = np.concatenate([self.source[kept], *(rows for _, rows, _ in self.extra)])
        out = _gathered_columns(base, pieces, like, owner.astype(np.int64), source.astype(np.int64), numbers)
        at, parts, triangles = 0, list[Part](), []
        for piece, own in zip(pieces, self.triangles, strict=True):
            triangles.append(where[own])
            parts.append(replace(piece.part, start=at, count=len(own)))
            at += len(own)
        out.triangles = np.concatenate(triangles).astype(np.uint32) if triangles else base.triangles[:0]
        out.parts = parts
        return out, like


def _gathered_columns(
    base: Mesh, pieces: Sequence[Piece], like: Array, owner: Array, source: Array, numbers: Array
) -> Mesh:
    """The columns of vertices: from the piece that each comes from, or from the original where that has none."""
    rows = np.where(like >= 0, like, 0)
    out = replace(
        base,
        positions=base.positions[rows].copy(),
        normals=base.normals[rows].copy() if base.normals is not None else None,
        tangents=base.tangents[rows].copy() if base.tangents is not None else None,
        uvs=[one[rows].copy() for one in base.uvs],
        colours=[colour[rows].copy() for colour in base.colours],
        joints=base.joints[rows].copy() if base.joints is not None else None,
        weights=base.weights[rows].copy() if base.weights is not None else None,
        morphs=[Morph(morph.name, morph.positions[rows].copy()) for morph in base.morphs],
        parts=[],
    )
    if base.joints is not None:
        widest = max([base.joints.shape[1], *(p.mesh.joints.shape[1] for p in pieces if p.mesh.joints is not None)])
        pad = ((0, 0), (0, widest - base.joints.shape[1]))
        assert out.joints is not None and out.weights is not None
        out.joints, out.weights = np.pad(out.joints, pad), np.pad(out.weights, pad)
    for number, piece in enumerate(pieces):
        mine = np.flatnonzero(owner == number)
        if not len(mine) or piece.mesh is base:
            continue
        mesh, own = piece.mesh, source[mine]
        for name in ("positions", "normals", "tangents"):
            target, given = getattr(out, name), getattr(mesh, name)
            if target is not None and given is not None:
                near = _near(target[mine], given[own])
                target[mine[~near]] = given[own[~near]]
        for into, given_columns in ((out.uvs, mesh.uvs), (out.colours, mesh.colours)):
            for column, values in zip(into, given_columns, strict=False):
                near = _near(column[mine], values[own])
                column[mine[~near]] = values[own[~near]]
        _put_weights(out, mesh, mine, own, numbers)
        by_name = {morph.name: morph for morph in mesh.morphs}
        for at, morph in enumerate(out.morphs):
            other = by_name.get(morph.name) or (mesh.morphs[at] if at < len(mesh.morphs) else None)
            if other is not None:
                near = _near(morph.positions[mine], other.positions[own])
                morph.positions[mine[~near]] = other.positions[own[~near]]
    return out


def _put_weights(out: Mesh, mesh: Mesh, mine: Array, own: Array, numbers: Array) -> None:
    if out.joints is None or out.weights is None or mesh.joints is None or mesh.weights is None:
        return
    joints, weights = mesh.joints[own], mesh.weights[own].copy()
    width = joints.shape[1]
    moved = numbers[joints] if len(numbers) else joints
    wrong = (moved < 0) & (weights > 0)
    if bool(wrong.any()):
        raise RefusedError(
            f"{int(wrong.any(axis=1).sum()):,} vertices are moved by joints that the game's skeleton has not",
            "weights for the joints of the game alone",
        )
    full_joints = np.zeros((len(mine), out.joints.shape[1]), out.joints.dtype)
    full_weights = np.zeros((len(mine), out.joints.shape[1]), np.float32)
    full_joints[:, :width], full_weights[:, :width] = np.maximum(moved, 0), weights
    changed = ~same_weights(out.joints[mine], out.weights[mine], full_joints, full_weights)
    out.joints[mine[changed]], out.weights[mine[changed]] = full_joints[changed], full_weights[changed]


def same_weights(one_joints: Array, one: Array, two_joints: Array, two: Array) -> Array:
    """Whether vertices are moved by the same joints in the same way, in whatever order these stand."""
    total = np.zeros(len(one), np.float64)
    for at in range(one.shape[1]):
        other = np.where(two_joints == one_joints[:, at : at + 1], two, 0).sum(axis=1)
        first = np.where(one_joints[:, :at] == one_joints[:, at : at + 1], one[:, :at], 0).sum(axis=1)
        total = np.maximum(total, np.where((first > 0) | (one[:, at] <= 0), 0, np.abs(one[:, at] - other)))
    return np.asarray((total < 1e-4) & (np.abs(one.sum(axis=1) - two.sum(axis=1)) < 1e-3))
