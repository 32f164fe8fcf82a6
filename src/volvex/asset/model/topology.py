"""Triangles: strips and lists, vertices that a part uses, bones of a part and parts that need too many, tangents,
bounds."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from volvex.asset.model.model import Array, Mesh
from volvex.codec.compiled import Compiled


def from_strip(indices: Array, restart: int) -> Array:
    """The triangles of a strip, every second one turned round; those of no area, which join strips, are left out."""
    found = []
    for run in np.split(indices, np.flatnonzero(indices == restart)):
        strip = run[1:] if len(run) and run[0] == restart else run
        if len(strip) < 3:
            continue
        made = np.stack([strip[:-2], strip[1:-1], strip[2:]], axis=1)
        made[1::2] = made[1::2][:, [1, 0, 2]]
        found.append(made)
    if not found:
        return np.zeros((0, 3), np.int64)
    made = np.concatenate(found)
    flat = (made[:, 0] == made[:, 1]) | (made[:, 1] == made[:, 2]) | (made[:, 0] == made[:, 2])
    return np.asarray(made[~flat])


def to_strip(triangles: Array) -> Array:
    """Triangles as one strip: each goes on from the one before over a shared edge where it can, else by triangles of no
    area."""
    if not len(triangles):
        return np.zeros(0, np.int64)
    neighbours: dict[tuple[int, int], list[int]] = {}
    rows = triangles.tolist()
    for number, (a, b, c) in enumerate(rows):
        for edge in ((a, b), (b, c), (c, a)):
            neighbours.setdefault(edge, []).append(number)
    left, strip = [True] * len(rows), list[int]()
    for first in range(len(rows)):
        if not left[first]:
            continue
        run = _run_from(first, rows, neighbours, left)
        if strip:
            joint = [strip[-1], run[0]]
            if len(strip) % 2:  # the run must begin at an even place, or its triangles are turned round
                joint.append(run[0])
            strip += joint
        strip += run
    return np.array(strip, np.int64)


def _run_from(
    first: int, rows: list[list[int]], neighbours: dict[tuple[int, int], list[int]], left: list[bool]
) -> list[int]:
    """One run of a strip from a triangle on, with what was used of it marked."""
    left[first] = False
    best, used = rows[first], list[int]()
    for turn in range(3):
        run, taken = rows[first][turn:] + rows[first][:turn], list[int]()
        while True:
            edge = (run[-1], run[-2]) if len(run) % 2 else (run[-2], run[-1])
            other = next((one for one in neighbours.get(edge, ()) if left[one] and one not in taken), None)
            if other is None or len(taken) > 4096:
                break
            taken.append(other)
            run.append(next(vertex for vertex in rows[other] if vertex not in edge))
        if len(run) > len(best):
            best, used = run, taken
    for one in used:
        left[one] = False
    return list(best)


def used_rows(triangles: Array, count: int) -> Array:
    """The vertices that triangles use, in order: a mark for each is faster than sorting them all."""
    marks = np.zeros(count, bool)
    marks[triangles.reshape(-1)] = True
    return np.flatnonzero(marks)


def used_bones(joints: Array, weights: Array, triangles: Array) -> Array:
    """The joints that some triangles' vertices are moved by."""
    rows = used_rows(triangles, len(joints))
    own = joints[rows][weights[rows] > 0]
    return np.unique(own)


def split_by_bones(joints: Array, weights: Array, triangles: Array, most: int) -> list[Array]:
    """Triangles in groups that need at most so many bones each; all in one where they do."""
    if most <= 0 or len(used_bones(joints, weights, triangles)) <= most:
        return [triangles]
    groups: list[tuple[set[int], list[int]]] = []
    per_vertex = [set(row[mask].tolist()) for row, mask in zip(joints, weights > 0, strict=True)]
    for number, (a, b, c) in enumerate(triangles.tolist()):
        wanted = per_vertex[a] | per_vertex[b] | per_vertex[c]
        if len(wanted) > most:
            wanted = set(sorted(wanted)[:most])
        fitting = [group for group in groups if len(group[0] | wanted) <= most]
        group = min(fitting, key=lambda one: len(one[0] | wanted) - len(one[0]), default=None)
        if group is None:
            group = (set(), [])
            groups.append(group)
        group[0].update(wanted)
        group[1].append(number)
    return [triangles[np.array(rows)] for _, rows in groups]


def sphere_around(points: Array) -> tuple[Array, float]:
    """The middle of the box around points, and how far the farthest lies from it."""
    if not len(points):
        return np.zeros(3), 0.0
    exact = np.asarray(points, np.float64)
    middle = (exact.min(axis=0) + exact.max(axis=0)) / 2
    return middle, float(np.sqrt(((exact - middle) ** 2).sum(axis=1).max()))


def normals_of(positions: Array, triangles: Array) -> Array:
    """Normals made from the triangles: at each vertex the mean of theirs, weighted by area."""
    p = np.asarray(positions, np.float64)
    one, two, three = (p[triangles[:, at]] for at in range(3))
    faces = np.cross(two - one, three - one)
    made = np.zeros_like(p)
    for at in range(3):
        np.add.at(made, triangles[:, at], faces)
    length = np.linalg.norm(made, axis=1, keepdims=True)
    made = made / np.where(length < 1e-30, 1, length)
    made[length[:, 0] < 1e-30] = (0, 1, 0)
    return made.astype(np.float32)


# tangents


def tangents_of(mesh: Mesh) -> Array:
    """Tangents for normal maps as most programs make them, so that what they baked looks as it should.

    Source: M. Mikkelsen, Simulation of Wrinkled Surfaces Revisited, 2008, and its reference implementation. Triangles
    that meet at a vertex with the same position, normal and UV, over shared edges and with the same hand, share a
    tangent: the mean of theirs, in the plane of the normal, weighted by the angle at the vertex. Where a vertex gets
    two, the one of more triangles stays.
    """
    assert mesh.normals is not None and mesh.uvs
    tri = mesh.triangles.astype(np.int64)
    made = np.zeros((len(mesh.positions), 4))
    made[:, 0], made[:, 3] = 1, 1
    if not len(tri):
        return made.astype(np.float32)
    p, n, uv = (np.asarray(one, np.float64) for one in (mesh.positions, mesh.normals, mesh.uvs[0]))
    welded = _welded(mesh)
    faces, positive = _face_tangents(p, uv, tri)
    corner_vertex, corner_face = tri.reshape(-1), np.repeat(np.arange(len(tri)), 3)
    group = _corner_groups(welded[tri], positive)
    normal = n[corner_vertex]
    flat = faces[corner_face]
    flat = flat - normal * (flat * normal).sum(axis=1, keepdims=True)
    flat = flat / np.maximum(np.linalg.norm(flat, axis=1, keepdims=True), 1e-20)
    angles = _corner_angles(p, n, tri)
    total = np.zeros((int(group.max()) + 1, 3))
    np.add.at(total, group, flat * angles[:, None])
    size = np.bincount(group)
    length = np.linalg.norm(total, axis=1, keepdims=True)
    mean = total / np.where(length < 1e-20, 1, length)
    order = np.argsort(size[group], kind="stable")  # of two groups at a vertex the larger is written last
    rows = corner_vertex[order]
    made[rows, :3] = mean[group[order]]
    made[rows, 3] = np.where(positive[corner_face[order]], 1, -1)
    none = np.linalg.norm(made[:, :3], axis=1) < 0.5
    if none.any():
        made[none, :3] = _any_across(n[none])
    return made.astype(np.float32)


def _welded(mesh: Mesh) -> Array:
    """A number for each vertex, the same for those that are the same in position, normal and UV."""
    rows = np.concatenate([mesh.positions, mesh.normals, mesh.uvs[0]], axis=1).astype(np.float32) + 0.0
    _, inverse = np.unique(
        np.ascontiguousarray(rows).view(np.dtype((np.void, rows.shape[1] * 4)))[:, 0], return_inverse=True
    )
    return np.asarray(inverse).reshape(-1)


def _face_tangents(p: Array, uv: Array, tri: Array) -> tuple[Array, Array]:
    """The direction in which u grows, of each triangle; and whether its place in the texture is not mirrored."""
    e1, e2 = p[tri[:, 1]] - p[tri[:, 0]], p[tri[:, 2]] - p[tri[:, 0]]
    d1, d2 = uv[tri[:, 1]] - uv[tri[:, 0]], uv[tri[:, 2]] - uv[tri[:, 0]]
    # v counts downwards in glTF, and its bitangent is cross(normal, tangent) * w: so v is turned for the sign
    area = -(d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0])
    tangent = -(e1 * d2[:, 1:2] - e2 * d1[:, 1:2])
    tangent = tangent * np.where(area < 0, -1, 1)[:, None]
    return tangent, area > 0


def _corner_angles(p: Array, n: Array, tri: Array) -> Array:
    """The angle of each corner of each triangle, in the plane of the vertex's normal."""
    angles = np.zeros(tri.shape)
    for at in range(3):
        here, normal = p[tri[:, at]], n[tri[:, at]]
        arms = []
        for other in (at + 1, at + 2):
            arm = p[tri[:, other % 3]] - here
            arm = arm - normal * (arm * normal).sum(axis=1, keepdims=True)
            arms.append(arm / np.maximum(np.linalg.norm(arm, axis=1, keepdims=True), 1e-20))
        angles[:, at] = np.arccos(np.clip((arms[0] * arms[1]).sum(axis=1), -1, 1))
    return angles.reshape(-1)


def _corner_groups(tri: Array, positive: Array) -> Array:
    """Which corners share a tangent: of triangles of one hand that meet at a vertex over edges that they share."""
    count = len(tri)
    corners = np.arange(count * 3).reshape(count, 3)
    ends = np.concatenate(
        [
            np.stack([tri[:, at], tri[:, (at + 1) % 3], corners[:, at], corners[:, (at + 1) % 3]], axis=1)
            for at in range(3)
        ]
    )
    swapped = ends[:, 0] > ends[:, 1]
    ends[swapped] = ends[swapped][:, [1, 0, 3, 2]]
    hand = positive[ends[:, 2] // 3]
    order = np.lexsort((hand, ends[:, 1], ends[:, 0]))
    ends, hand = ends[order], hand[order]
    same = (ends[1:, 0] == ends[:-1, 0]) & (ends[1:, 1] == ends[:-1, 1]) & (hand[1:] == hand[:-1])
    rows = np.flatnonzero(same)
    one = np.concatenate([ends[rows, 2], ends[rows, 3]])
    two = np.concatenate([ends[rows + 1, 2], ends[rows + 1, 3]])
    parents = np.arange(count * 3)
    _join(parents, one, two)
    _, group = np.unique(parents, return_inverse=True)
    return np.asarray(group).reshape(-1)


def _join_loop(parents, one, two):  # type: ignore[no-untyped-def]
    for at in range(len(one)):
        a, b = one[at], two[at]
        while parents[a] != a:
            parents[a] = parents[parents[a]]
            a = parents[a]
        while parents[b] != b:
            parents[b] = parents[parents[b]]
            b = parents[b]
        if a < b:
            parents[b] = a
        else:
            parents[a] = b
    for at in range(len(parents)):
        root = at
        while parents[root] != root:
            root = parents[root]
        parents[at] = root


_join = Compiled(_join_loop)


def _any_across(normals: Array) -> Array:
    """Some direction across each normal."""
    other = np.where(np.abs(normals[:, :1]) < 0.9, np.array([[1.0, 0, 0]]), np.array([[0, 1.0, 0]]))
    made = np.cross(np.cross(normals, other), normals)
    return np.asarray(made / np.maximum(np.linalg.norm(made, axis=1, keepdims=True), 1e-20))


# which vertex of another mesh one is like


def nearest_rows(points: Array, wanted: Array) -> Array:
    """For each wanted position the row of the nearest point."""
    if not len(points):
        return np.full(len(wanted), -1, np.int64)
    order = np.argsort(points[:, 0], kind="stable")
    found = np.zeros(len(wanted), np.int64)
    _nearest(np.ascontiguousarray(points[order], np.float64), np.ascontiguousarray(wanted, np.float64), found)
    return order[found]


def _nearest_loop(points, wanted, found):  # type: ignore[no-untyped-def]
    """Points are sorted by x: from where the wanted one would stand, both ways, until x alone is too far."""
    count = len(points)
    for row in range(len(wanted)):
        x, y, z = wanted[row, 0], wanted[row, 1], wanted[row, 2]
        low, high = 0, count
        while low < high:
            middle = (low + high) // 2
            if points[middle, 0] < x:
                low = middle + 1
            else:
                high = middle
        up, down = low, low - 1
        best, at = 1e300, 0
        while up < count or down >= 0:
            if up < count:
                dx = points[up, 0] - x
                if dx * dx >= best:
                    up = count
                else:
                    dy, dz = points[up, 1] - y, points[up, 2] - z
                    d = dx * dx + dy * dy + dz * dz
                    if d < best:
                        best, at = d, up
                    up += 1
            if down >= 0:
                dx = points[down, 0] - x
                if dx * dx >= best:
                    down = -1
                else:
                    dy, dz = points[down, 1] - y, points[down, 2] - z
                    d = dx * dx + dy * dy + dz * dz
                    if d < best:
                        best, at = d, down
                    down -= 1
        found[row] = at


_nearest = Compiled(_nearest_loop)


def same_rows(old: Sequence[Array], new: Sequence[Array]) -> Array:
    """For each new row the first old one with the same bytes in all columns, or -1."""
    if not len(old[0]) or not len(new[0]):
        return np.full(len(new[0]), -1, np.int64)
    both = [_bytes(columns) for columns in (old, new)]
    _, first, inverse = np.unique(np.concatenate(both), return_index=True, return_inverse=True)
    found = first[np.asarray(inverse).reshape(-1)[len(both[0]) :]]
    return np.where(found < len(both[0]), found, -1)


def _bytes(columns: Sequence[Array]) -> Array:
    parts = [np.ascontiguousarray(column.reshape(len(column), -1).astype(np.float32) + 0.0) for column in columns]
    whole = np.ascontiguousarray(np.concatenate(parts, axis=1))
    return whole.view(np.dtype((np.void, whole.shape[1] * 4)))[:, 0]
