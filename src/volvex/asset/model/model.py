"""A model in memory: arrays of its vertices and triangles, its skeleton, animations and materials."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from volvex.errors import FRESH, FormatError

Array = npt.NDArray[Any]
LARGEST = 1 << 31  # bytes of a model that are read
MOST_VERTICES = 1 << 26
MOST_TRIANGLES = 1 << 26
MOST_JOINTS = 1 << 16
MOST_PARTS = 1 << 14  # parts and copies of a mesh: each takes time of its own
MOST_NODES = 1 << 17
MOST_MADE = 1 << 24  # vertices or triangles that a file gives without having the bytes for them
MOST_KEYS = 1 << 26
DRAWN, COLLISION = "drawn", "collision"
GLTF = "glTF 2.0"
ROUGHNESS = "roughness"  # a texture of glTF: roughness in green, metalness in blue
TRANSLATION, ROTATION, SCALE = PATHS = ("translation", "rotation", "scale")
OPAQUE, MASK, BLEND = ALPHA = ("opaque", "mask", "blend")


@dataclass
class Part:
    """Triangles of a mesh with one material: the first and how many; `material` counts the model's, -1 for none."""

    start: int
    count: int
    material: int = -1
    name: str = ""
    lod: int = 0
    use: str = DRAWN


@dataclass
class Morph:
    """A shape that a mesh can take on: how far each vertex (and normal) moves."""

    name: str
    positions: Array
    normals: Array | None = None


@dataclass
class Mesh:
    """Vertices (float32, a row each) and triangles (three numbers of vertices each), in parts."""

    name: str
    positions: Array
    triangles: Array
    parts: list[Part] = field(default_factory=list)
    normals: Array | None = None
    tangents: Array | None = None  # x, y, z and the hand
    uvs: list[Array] = field(default_factory=list)
    colours: list[Array] = field(default_factory=list)  # red, green, blue, alpha from 0 to 1
    joints: Array | None = None  # of the model's skeleton, as many columns as weights
    weights: Array | None = None
    morphs: list[Morph] = field(default_factory=list)

    def columns(self) -> dict[str, Array]:
        """What each vertex has, by name."""
        found = {"position": self.positions, "normal": self.normals, "tangent": self.tangents}
        found |= {f"uv {number}": column for number, column in enumerate(self.uvs, 1)}
        found |= {f"colour {number}": column for number, column in enumerate(self.colours, 1)}
        found |= {"joints": self.joints, "weights": self.weights}
        return {name: column for name, column in found.items() if column is not None}

    def drawn(self, lod: int = 0) -> Array:
        """The triangles of one level of detail."""
        parts = [part for part in self.parts if part.use == DRAWN and part.lod == lod]
        if not parts:
            return np.zeros((0, 3), np.uint32)
        return np.concatenate([self.triangles[part.start : part.start + part.count] for part in parts])


@dataclass
class Skeleton:
    """Joints: names, parents (-1 for none), the pose in which a mesh is bound, and (joint to mesh) the inverse of
    that."""

    names: list[str]
    parents: Array
    translations: Array
    rotations: Array
    scales: Array
    inverse_bind: Array | None = None  # joints x 4 x 4

    def __len__(self) -> int:
        return len(self.names)


@dataclass
class Track:
    """How one joint moves: values at times (seconds). `node`: the joint's number in the skeleton."""

    joint: int
    path: str
    times: Array
    values: Array
    stepped: bool = False


@dataclass
class Animation:
    """Tracks under a name."""

    name: str
    tracks: list[Track] = field(default_factory=list)
    rate: float = 0.0  # frames in a second, where it is sampled

    @property
    def duration(self) -> float:
        """Seconds from the start to the last key."""
        return max((float(track.times[-1]) for track in self.tracks if len(track.times)), default=0.0)


@dataclass
class Material:
    """What a surface is like: names of textures by their role, and numbers."""

    name: str
    textures: dict[str, str] = field(default_factory=dict)
    colour: tuple[float, float, float, float] = (1.0, 1.0, 1.0, 1.0)
    alpha: str = OPAQUE
    cutoff: float = 0.5
    two_sided: bool = False
    metalness: float = 0.0
    roughness: float = 1.0


@dataclass
class Model:
    """A model or a part of one: of a file that only holds animations, these."""

    name: str
    form: str
    meshes: list[Mesh] = field(default_factory=list)
    skeleton: Skeleton | None = None
    animations: list[Animation] = field(default_factory=list)
    materials: list[Material] = field(default_factory=list)
    skeleton_file: str = ""  # the file with its skeleton, as the game calls it
    pictures: dict[str, bytes] = field(default_factory=dict)  # textures inside of its file, by their names: PNG, JPEG
    texture_files: dict[str, str] = field(default_factory=dict)  # of textures that have names, their files
    notes: tuple[str, ...] = ()
    extra: dict[str, Any] = field(default_factory=dict)

    @property
    def vertices(self) -> int:
        return sum(len(mesh.positions) for mesh in self.meshes)

    @property
    def drawable(self) -> bool:
        """Whether there is anything to draw."""
        return any(len(mesh.triangles) for mesh in self.meshes) or bool(self.skeleton and len(self.skeleton))

    @property
    def lods(self) -> int:
        """How many levels of detail there are."""
        drawn = [part.lod for mesh in self.meshes for part in mesh.parts if part.use == DRAWN]
        return max(drawn, default=-1) + 1

    def triangles(self, lod: int | None = None, use: str = DRAWN) -> int:
        """How many triangles there are, of one level or of all."""
        return sum(
            part.count
            for mesh in self.meshes
            for part in mesh.parts
            if part.use == use and (lod is None or part.lod == lod)
        )

    def box(self) -> tuple[Array, Array] | None:
        """The corners of the box around all that is drawn; without anything around all vertices, and None without
        any."""
        used = [
            mesh.positions[mesh.triangles[part.start : part.start + part.count].reshape(-1)]
            for mesh in self.meshes
            for part in mesh.parts
            if part.count and part.use == DRAWN
        ]
        used = used or [mesh.positions for mesh in self.meshes if len(mesh.positions)]
        if not used:
            return None
        low, high = np.min([one.min(axis=0) for one in used], axis=0), np.max([one.max(axis=0) for one in used], axis=0)
        return low.astype(np.float64), high.astype(np.float64)


def check_counts(name: str, counts: Mapping[str, tuple[int, int]]) -> None:
    """FormatError for more of something than any model has: what it is, how many there are, and how many may be."""
    for what, (number, most) in counts.items():
        if number > most:
            raise FormatError(name, f"{number:,} {what}, more than any model has", hint=FRESH)


def check_mesh(name: str, mesh: Mesh) -> None:
    """FormatError for a mesh that cannot be: positions that are no numbers, triangles of vertices that it has not."""
    for what, column in mesh.columns().items():
        if len(column) != len(mesh.positions):
            raise FormatError(name, f"{len(column):,} vertices with a {what}, {len(mesh.positions):,} positions")
        if column.dtype.kind == "f" and not bool(np.isfinite(column).all()):
            row = int(np.argmin(np.isfinite(column.reshape(len(column), -1)).all(axis=1)))
            raise FormatError(name, f"the {what} of vertex {row:,} is no number", hint=FRESH, asked="another layout")
    if len(mesh.triangles) and int(mesh.triangles.max()) >= len(mesh.positions):
        row = int(np.argmax(mesh.triangles.max(axis=1) >= len(mesh.positions)))
        raise FormatError(
            name,
            f"triangle {row:,} has vertex {int(mesh.triangles[row].max()):,}, there are {len(mesh.positions):,}",
            hint=FRESH,
            asked="another layout",
        )


def check_skeleton(name: str, skeleton: Skeleton) -> None:
    """FormatError for parents that are no joints, and for joints in a circle."""
    parents = skeleton.parents
    wrong = np.flatnonzero((parents < -1) | (parents >= len(parents)))
    if len(wrong):
        joint = int(wrong[0])
        raise FormatError(name, f"joint {joint} has parent {int(parents[joint])}, there are {len(parents)}", hint=FRESH)
    reached = parents.copy()
    for _ in range(len(parents).bit_length() + 1):  # the ancestor twice as far each time
        reached = np.where(reached < 0, -1, reached[reached])
    if bool((reached >= 0).any()):
        raise FormatError(name, f"joint {int(np.argmax(reached >= 0))} is its own ancestor", hint=FRESH)
    for what, values in (("translation", skeleton.translations), ("rotation", skeleton.rotations)):
        if not bool(np.isfinite(values).all()):
            raise FormatError(name, f"a joint's {what} is no number", hint=FRESH)


def order_of(parents: Array) -> list[int]:
    """The joints with every parent before its children."""
    children: dict[int, list[int]] = {}
    for joint, parent in enumerate(parents.tolist()):
        children.setdefault(parent, []).append(joint)
    found, waiting = list[int](), list(reversed(children.get(-1, [])))
    while waiting:
        joint = waiting.pop()
        found.append(joint)
        waiting += reversed(children.get(joint, []))
    return found
