"""Where up is, which hand, how large a unit: from a game's space to the one that glTF has, and back.

Source: glTF 2.0 specification, section 3.4 (coordinate system and units).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.asset.model.model import Array

AXES = {  # rows: x, y, z of glTF made of the game's
    ("y", "right"): ((1, 0, 0), (0, 1, 0), (0, 0, 1)),
    ("y", "left"): ((1, 0, 0), (0, 1, 0), (0, 0, -1)),
    ("z", "right"): ((1, 0, 0), (0, 0, 1), (0, -1, 0)),
    ("z", "left"): ((1, 0, 0), (0, 0, 1), (0, 1, 0)),
    ("x", "right"): ((0, -1, 0), (1, 0, 0), (0, 0, 1)),
    ("x", "left"): ((0, 1, 0), (1, 0, 0), (0, 0, 1)),
}


@dataclass(frozen=True)
class Space:
    """A game's space. `units`: that are a metre; `v_up`: textures from their lower left corner."""

    up: str = "y"
    handed: str = "right"
    units: int = 1
    v_up: bool = False
    winding: str = "natural"

    @property
    def axes(self) -> Array:
        return np.array(AXES[self.up, self.handed], np.float64)

    @property
    def hand(self) -> int:
        """-1 where turning into glTF's space mirrors."""
        return -1 if self.handed == "left" else 1

    @property
    def flips(self) -> bool:
        """Whether the order of a triangle's vertices is turned round."""
        if self.winding == "natural":  # seen from outside as in glTF, once it is mirrored
            return False
        return (self.winding == "clockwise") != (self.hand < 0)

    def points(self, values: Array, back: bool = False) -> Array:
        """Positions to glTF's space in metres, or back."""
        if back:
            return self.directions(values, True) * self.units
        turned = self.directions(values)
        return turned if self.units == 1 else turned / self.units

    def directions(self, values: Array, back: bool = False) -> Array:
        """Directions to glTF's space, or back."""
        axes = self.axes.T if back else self.axes
        columns = [_picked(values, row) for row in axes]
        return np.stack(columns, axis=-1) if len(columns) else values

    def scales(self, values: Array, back: bool = False) -> Array:
        """Scales along the axes to glTF's space, or back."""
        return np.abs(self.directions(np.asarray(values), back))

    def tangents(self, values: Array, back: bool = False) -> Array:
        """Tangents with their hand to glTF's space, or back."""
        sign = self.hand * (-1 if self.v_up else 1)
        return np.concatenate([self.directions(values[:, :3], back), values[:, 3:] * sign], axis=1)

    def quaternions(self, values: Array, back: bool = False) -> Array:
        """Rotations to glTF's space, or back: the axis of a mirrored one turns the other way."""
        return np.concatenate([self.directions(values[..., :3], back) * self.hand, values[..., 3:]], axis=-1)

    def matrices(self, values: Array, back: bool = False) -> Array:
        """Matrices (4 x 4, columns of numbers act) to glTF's space, or back."""
        turn = np.eye(4)
        turn[:3, :3] = self.axes / self.units
        inverse = np.linalg.inv(turn)
        return inverse @ values @ turn if back else turn @ values @ inverse

    def uvs(self, values: Array) -> Array:
        """Places in a texture to glTF's space; the same way back."""
        if not self.v_up:
            return values
        turned = values.copy()
        turned[:, 1] = 1 - turned[:, 1]
        return turned


def _picked(values: Array, row: Array) -> Array:
    """One axis of the other space: a column of this one, perhaps the other way round."""
    at = int(np.argmax(np.abs(row)))
    column = values[..., at]
    return -column if row[at] < 0 else column


# quaternions and matrices


def matrix_of(translation: Any, rotation: Any, scale: Any) -> Array:
    """4 x 4 matrices of translations, rotations (x, y, z, w) and scales, each with any number of rows."""
    t, q, s = (np.asarray(one, np.float64) for one in (translation, rotation, scale))
    length = np.linalg.norm(q, axis=-1, keepdims=True)
    q = np.where(length > 0, q / np.where(length > 0, length, 1), [0.0, 0.0, 0.0, 1.0])
    x, y, z, w = np.moveaxis(q, -1, 0)
    made = np.zeros((*q.shape[:-1], 4, 4))
    made[..., 0, 0], made[..., 0, 1], made[..., 0, 2] = (
        1 - 2 * (y * y + z * z),
        2 * (x * y - z * w),
        2 * (x * z + y * w),
    )
    made[..., 1, 0], made[..., 1, 1], made[..., 1, 2] = (
        2 * (x * y + z * w),
        1 - 2 * (x * x + z * z),
        2 * (y * z - x * w),
    )
    made[..., 2, 0], made[..., 2, 1], made[..., 2, 2] = (
        2 * (x * z - y * w),
        2 * (y * z + x * w),
        1 - 2 * (x * x + y * y),
    )
    made[..., :3, :3] *= s[..., None, :]
    made[..., :3, 3] = t
    made[..., 3, 3] = 1
    return made


def parts_of(matrix: Array) -> tuple[Array, Array, Array]:
    """Translations, rotations and scales of 4 x 4 matrices without shear."""
    m = np.asarray(matrix, np.float64)
    scale = np.linalg.norm(m[..., :3, :3], axis=-2)
    scale[..., 0] *= np.where(np.linalg.det(m[..., :3, :3]) < 0, -1, 1)
    turn = m[..., :3, :3] / np.where(scale == 0, 1, scale)[..., None, :]
    return m[..., :3, 3], quaternion_of(turn), scale


def quaternion_of(turn: Array) -> Array:
    """Quaternions (x, y, z, w) of rotation matrices. Source: Shepperd, Quaternion from rotation matrix, 1978."""
    m = turn.reshape(-1, 3, 3)
    trace = m[:, 0, 0] + m[:, 1, 1] + m[:, 2, 2]
    squares = np.stack([m[:, 0, 0], m[:, 1, 1], m[:, 2, 2]], axis=1) * 2 + 1 - trace[:, None]
    every = np.concatenate([squares, 1 + trace[:, None]], axis=1)  # four times the square of each number
    best = np.argmax(every, axis=1)
    q = np.zeros((len(m), 4))
    for at in range(4):
        rows = best == at
        if not rows.any():
            continue
        half = np.sqrt(np.maximum(every[rows, at], 1e-30)) / 2
        one, n = m[rows], 4 * half
        off = [one[:, 2, 1] - one[:, 1, 2], one[:, 0, 2] - one[:, 2, 0], one[:, 1, 0] - one[:, 0, 1]]
        if at == 3:
            values = [off[0] / n, off[1] / n, off[2] / n, half]
        else:
            values = [(one[:, at, other] + one[:, other, at]) / n for other in range(3)] + [off[at] / n]
            values[at] = half
        q[rows] = np.stack(values, axis=1)
    return q.reshape(*turn.shape[:-2], 4)


def world_of(parents: Array, local: Array, order: list[int]) -> Array:
    """The matrices of joints in the model's space, from those in their parents'."""
    world = local.copy()
    for joint in order:
        parent = int(parents[joint])
        if parent >= 0:
            world[joint] = world[parent] @ local[joint]
    return world


def unit_rows(turns: Array) -> Array:
    """Quaternions of length 1."""
    length = np.linalg.norm(turns, axis=1, keepdims=True)
    made = np.where(length > 1e-12, turns / np.where(length > 1e-12, length, 1), [0.0, 0.0, 0.0, 1.0])
    return np.asarray(made, np.float32)
