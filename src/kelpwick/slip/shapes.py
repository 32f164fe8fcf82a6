"""The shapes of the slip: sheets and tubes of vertices, made by formulas; in metres, y up, the right hand."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

Array = Any
Point = Callable[[float, float], tuple[float, float, float]]


@dataclass
class Shape:
    """Vertices with everything they have, and triangles."""

    positions: Array
    normals: Array
    uvs: Array
    triangles: Array
    joints: list[tuple[int, float]] = field(default_factory=list)  # of all its vertices: joints and weights


def sheet(point: Point, columns: int, rows: int, joints: list[tuple[int, float]]) -> Shape:
    """A sheet over the unit square, `columns` x `rows` cells of two triangles."""
    grid = [(u / columns, v / rows) for v in range(rows + 1) for u in range(columns + 1)]
    positions = np.array([point(u, v) for u, v in grid])
    step = 1e-4
    along = np.array([np.subtract(point(min(1, u + step), v), point(max(0, u - step), v)) for u, v in grid])
    across = np.array([np.subtract(point(u, min(1, v + step)), point(u, max(0, v - step))) for u, v in grid])
    normals = np.cross(along, across)
    length = np.linalg.norm(normals, axis=1, keepdims=True)
    normals = np.where(length > 1e-12, normals / np.where(length > 1e-12, length, 1), [0.0, 1.0, 0.0])
    wide, triangles = columns + 1, []
    for row in range(rows):
        for column in range(columns):
            at = row * wide + column
            triangles += [(at, at + 1, at + wide), (at + 1, at + wide + 1, at + wide)]
    return Shape(positions, normals, np.array(grid), np.array(triangles), joints)


def tube(low: Array, high: Array, radii: tuple[float, float], sides: int, joints: list[tuple[int, float]]) -> Shape:
    """A tube from one point to another, open at its ends."""
    axis = np.subtract(high, low)
    axis = axis / np.linalg.norm(axis)
    side = np.cross(axis, (1.0, 0, 0) if abs(axis[0]) < 0.9 else (0, 1.0, 0))
    side = side / np.linalg.norm(side)
    other = np.cross(axis, side)

    def point(u: float, v: float) -> tuple[float, float, float]:
        radius, angle = radii[0] + (radii[1] - radii[0]) * v, 2 * math.pi * u
        where = np.add(low, np.multiply(np.subtract(high, low), v))
        where = where + radius * (math.cos(angle) * side + math.sin(angle) * other)
        return float(where[0]), float(where[1]), float(where[2])

    return sheet(point, sides, 1, joints)


def box(low: Array, high: Array) -> Shape:
    """A box of eight corners."""
    corners = np.array([[(low, high)[at >> axis & 1][axis] for axis in range(3)] for at in range(8)], float)
    normals = corners - corners.mean(axis=0)
    normals = normals / np.linalg.norm(normals, axis=1, keepdims=True)
    faces = [(0, 2, 1), (1, 2, 3), (4, 5, 6), (5, 7, 6), (0, 1, 4), (1, 5, 4), (2, 6, 3), (3, 6, 7), (0, 4, 2), (2, 4, 6), (1, 3, 5), (3, 7, 5)]  # fmt: skip  # noqa: E501
    return Shape(corners, normals, np.zeros((8, 2)), np.array(faces), [(0, 1.0)])


HULL, MAST, SAIL, LEFT, RIGHT = range(5)
BOAT_JOINTS = (  # name, parent, where it is in its parent
    ("hull", -1, (0.0, 0.2, 0.0)),
    ("mast", 0, (0.0, 0.3, 0.4)),
    ("sail", 1, (0.0, 1.2, 0.0)),
    ("oar_left", 0, (0.6, 0.3, -0.3)),
    ("oar_right", 0, (-0.6, 0.3, -0.3)),
)
LIGHT_JOINTS = (("tower", -1, (0.0, 0.0, 0.0)), ("beam", 0, (0.0, 9.0, 0.0)))


def _hull_point(u: float, v: float) -> tuple[float, float, float]:
    """The skin of the hull: u from stern to bow, v from the right rail under the keel to the left one."""
    half = 0.75 * math.sin(math.pi * (0.12 + 0.86 * u)) ** 0.7
    angle = math.pi * v
    return -half * math.cos(angle), 0.55 - 0.6 * math.sin(angle) * (1 - 0.35 * u * u) + 0.25 * u * u, 4 * u - 2


def _sail_point(u: float, v: float) -> tuple[float, float, float]:
    wide = 1.4 * (1 - 0.75 * v)
    return 0.25 * math.sin(math.pi * u) * (1 - v), 1.1 + 2.2 * v, 0.4 - wide * u


def boat(level: int) -> list[tuple[str, str, Shape]]:
    """The parts of a boat at one level of detail: name, material, shape."""
    fine = (24, 12, 10) if level == 0 else (10, 6, 4)
    hull = sheet(_hull_point, fine[0], fine[1], [(HULL, 1.0)])
    sail = sheet(_sail_point, fine[2], fine[2], [(SAIL, 0.75), (MAST, 0.25)])
    if level:
        return [("hull", "hull", hull), ("sail", "sail", sail)]
    rig = [
        tube((0, 0.3, 0.4), (0, 3.4, 0.4), (0.06, 0.03), 8, [(MAST, 1.0)]),
        tube((0.5, 0.55, -0.3), (1.9, 0.1, -0.5), (0.03, 0.05), 6, [(LEFT, 1.0)]),
        tube((-0.5, 0.55, -0.3), (-1.9, 0.1, -0.5), (0.03, 0.05), 6, [(RIGHT, 1.0)]),
    ]
    return [("hull", "hull", hull), ("sail", "sail", sail), *(("rig", "rig", one) for one in rig)]


def lighthouse(level: int) -> list[tuple[str, str, Shape]]:
    """The parts of the lighthouse at one level of detail."""
    sides, rows = (24, 8) if level == 0 else (10, 2)

    def tower(u: float, v: float) -> tuple[float, float, float]:
        angle, radius = -2 * math.pi * u, 1.6 - 0.7 * v
        return radius * math.cos(angle), 8 * v, radius * math.sin(angle)

    def room(u: float, v: float) -> tuple[float, float, float]:
        angle = -2 * math.pi * u
        return 0.7 * math.cos(angle), 8 + 1.5 * v, 0.7 * math.sin(angle)

    def roof(u: float, v: float) -> tuple[float, float, float]:
        angle, radius = -2 * math.pi * u, 0.9 * (1 - v) + 0.01
        return radius * math.cos(angle), 9.5 + 0.8 * v, radius * math.sin(angle)

    found = [
        ("tower", "stone", sheet(tower, sides, rows, [(0, 1.0)])),
        ("room", "glass", sheet(room, sides, 1, [(0, 1.0)])),
        ("roof", "stone", sheet(roof, sides, 1, [(0, 1.0)])),
    ]
    if level == 0:
        found.append(("beam", "beam", tube((0.2, 9.0, 0), (6.0, 9.0, 0), (0.1, 0.9), 12, [(1, 1.0)])))
    return found
