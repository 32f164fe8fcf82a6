"""Models from glTF 2.0 files. Source: Khronos, glTF 2.0 specification (ISO/IEC 12113)."""

from __future__ import annotations

import re
from collections import Counter
from typing import Any

import numpy as np

from volvex.asset.model.gltf_file import GltfFile, open_gltf
from volvex.asset.model.gltf_images import images_of
from volvex.asset.model.gltf_nodes import Nodes
from volvex.asset.model.model import (
    COLLISION,
    DRAWN,
    GLTF,
    MOST_MADE,
    MOST_PARTS,
    ROUGHNESS,
    Array,
    Material,
    Mesh,
    Model,
    Morph,
    Part,
    check_counts,
    check_mesh,
)
from volvex.source import Source

_MARKS = re.compile(r"\.(?:lod(?P<lod>[0-9]{1,2})|(?P<use>collision))(?=[._]|$)")
LIST, STRIP, FAN = 4, 5, 6
PLAIN_SLOTS = {"baseColorTexture": "colour", "metallicRoughnessTexture": ROUGHNESS}
CARRIED = {"KHR_mesh_quantization"}  # extensions of which nothing is lost
SLOTS = {"normalTexture": "normal", "occlusionTexture": "occlusion", "emissiveTexture": "emission"}


def read(source: Source) -> Model:
    """The model in a .glb or .gltf file; FormatError when it is damaged."""
    return _Reader(open_gltf(source)).model()


class _Reader(Nodes):
    images: list[str]  # the names of all images

    def model(self) -> Model:
        stem = self.file.name.rpartition("/")[2].rpartition(".")[0] or self.file.name
        made = Model(stem, GLTF)
        self.images = images_of(self.file, made, self.notes)
        made.materials = [self._material(n) for n in range(len(self.file.items("materials")))]
        joints = self.joints()
        made.skeleton = self.skeleton(joints) if joints else None
        made.meshes = self._meshes(joints)
        made.animations = self.animations(joints)
        for mesh in made.meshes:
            check_mesh(self.file.name, mesh)
            if mesh.joints is not None and len(mesh.joints) and int(mesh.joints.max()) >= max(1, len(joints)):
                raise self.file.error(f"{mesh.name} has joint {int(mesh.joints.max())}, the skin {len(joints)}")
        used = self.file.root.get("extensionsUsed", [])
        left = [one for one in used if isinstance(one, str) and one not in CARRIED] if isinstance(used, list) else []
        left += ["cameras"] if self.file.root.get("cameras") else []
        self.notes += [f"{', '.join(left)} of the file left out"] if left else []
        made.notes = tuple(dict.fromkeys(self.notes))
        return made

    # meshes

    def _meshes(self, joints: list[int]) -> list[Mesh]:
        self._check_budget()
        where, made = {node: number for number, node in enumerate(joints)}, []
        for number, node in enumerate(self.nodes):
            if "mesh" not in node:
                continue
            own = self.file.item("meshes", node["mesh"], f"nodes[{number}]")
            name, lod, use = self._marks(number, own.get("name"))
            mesh = self._mesh(own, f"meshes[{node['mesh']}]", name)
            for part in mesh.parts:
                part.lod, part.use = lod, use
            skin = self.file.item("skins", node["skin"], f"nodes[{number}]") if "skin" in node else None
            if skin is not None and mesh.joints is not None:
                table = np.array([where[joint] for joint in skin["joints"]])
                if len(mesh.joints) and int(mesh.joints.max()) >= len(table):
                    raise self.file.error(
                        f"joint {int(mesh.joints.max())} of a skin of {len(table)}", f"nodes[{number}]"
                    )
                mesh.joints = table[mesh.joints]
            elif skin is None:
                mesh.joints = mesh.weights = None
                _move(mesh, self.world_of(number))
            made.append(mesh)
        return made

    def _check_budget(self) -> None:
        """FormatError for more vertices or copies than any model has, before the first is made: a mesh of many nodes is
        made for each."""
        used = Counter(node["mesh"] for node in self.nodes if isinstance(node.get("mesh"), int))
        vertices = triangles = parts = 0
        for number, times in used.items():
            primitives = self.file.item("meshes", number, "nodes").get("primitives")
            for primitive in primitives if isinstance(primitives, list) else ():
                attributes = primitive.get("attributes") if isinstance(primitive, dict) else None
                named = [attributes.get("POSITION")] if isinstance(attributes, dict) else []
                vertices += times * sum(self._count_of(one) for one in named)
                triangles += times * self._count_of(primitive.get("indices")) // 3 if named else 0
                parts += times
        check_counts(
            self.file.name,
            {"parts": (parts, MOST_PARTS), "vertices": (vertices, MOST_MADE), "triangles": (triangles, MOST_MADE)},
        )

    def _count_of(self, number: Any) -> int:
        """How many elements an accessor has by its own word."""
        accessors = self.file.items("accessors")
        known = isinstance(number, int) and 0 <= number < len(accessors)
        count = accessors[number].get("count") if known else 0
        return int(count) if isinstance(count, int | float) and count > 0 else 0

    def _marks(self, number: int, mesh_name: Any) -> tuple[str, int, str]:
        """What the name of a node says, or else those of its mesh and of the nodes above: programs give nodes names of
        their own."""
        names, at = [self.name_of(number), mesh_name if isinstance(mesh_name, str) else ""], self.parents[number]
        while at >= 0 and len(names) < 8:
            names.append(self.name_of(at))
            at = self.parents[at]
        marked = next((name for name in names if _MARKS.search(name)), names[0])
        return marks_of(marked)

    def _mesh(self, own: dict[str, Any], where: str, name: str) -> Mesh:
        """A mesh of all primitives: vertices that they share are there once."""
        primitives = own.get("primitives")
        if not isinstance(primitives, list) or not all(isinstance(primitive, dict) for primitive in primitives):
            raise self.file.error("a mesh without primitives", where)
        groups: dict[str, tuple[int, dict[str, Any], list[Any]]] = {}
        triangles, parts, total, at = [], list[Part](), 0, 0
        for number, primitive in enumerate(primitives):
            place = f"{where}.primitives[{number}]"
            attributes = primitive.get("attributes")
            if not isinstance(attributes, dict) or "POSITION" not in attributes:
                self.notes.append("parts without positions are left out")
                continue
            targets = primitive.get("targets") or []
            key = repr(sorted(attributes.items(), key=str)) + repr(targets)
            if key not in groups:
                count = len(self.file.accessor(attributes["POSITION"], place, 3))
                groups[key] = (total, attributes, targets)
                total += count
            start = groups[key][0]
            count = len(self.file.accessor(attributes["POSITION"], place, 3))
            rows = self._triangles(primitive, place, count)
            if rows is None:
                self.notes.append("points and lines are left out")
                continue
            extras = primitive.get("extras")
            said = extras.get("part") if isinstance(extras, dict) else ""
            material = primitive.get("material", -1)
            if material != -1:
                self.file.item("materials", material, place)
            parts.append(Part(at, len(rows), material, said if isinstance(said, str) else ""))
            triangles.append(rows + start)
            at += len(rows)
        made = Mesh(name, np.zeros((0, 3), np.float32), np.zeros((0, 3), np.uint32), parts)
        if triangles:
            made.triangles = np.concatenate(triangles).astype(np.uint32)
        self._columns(made, list(groups.values()), own, where)
        return made

    def _triangles(self, primitive: dict[str, Any], path: str, count: int) -> Array | None:
        mode = primitive.get("mode", LIST)
        if mode not in (LIST, STRIP, FAN):
            return None
        if "indices" in primitive:
            values = self.file.accessor(primitive["indices"], path, 1)
            if values.dtype.kind != "u":
                raise self.file.error("indices that are no whole numbers", path)
            rows = values[:, 0].astype(np.int64)
        else:
            rows = np.arange(count)
        if len(rows) and int(rows.max()) >= count:
            raise self.file.error(f"index {int(rows.max()):,} of {count:,} vertices", path)
        if mode == LIST:
            return rows[: len(rows) // 3 * 3].reshape(-1, 3)
        if len(rows) < 3:
            return np.zeros((0, 3), np.int64)
        if mode == FAN:
            return np.stack([np.full(len(rows) - 2, rows[0]), rows[1:-1], rows[2:]], axis=1)
        made = np.stack([rows[:-2], rows[1:-1], rows[2:]], axis=1)
        made[1::2] = made[1::2][:, [1, 0, 2]]
        return made

    def _columns(
        self, mesh: Mesh, groups: list[tuple[int, dict[str, Any], list[Any]]], own: dict[str, Any], where: str
    ) -> None:
        """What each vertex has: of the groups one behind the other; what not all of them have is left out."""
        if not groups:
            return
        held = [
            {name: np.asarray(self.file.accessor(number, where)) for name, number in attributes.items() if wanted(name)}
            for _, attributes, _ in groups
        ]
        for columns in held:
            counts = {len(column) for column in columns.values()}
            if len(counts) > 1:
                raise self.file.error("attributes of different numbers of vertices", where)
        common = [name for name in held[0] if all(name in columns for columns in held)]
        left = sorted({name for columns in held for name in columns} - set(common))
        if left:
            self.notes.append(
                f"{', '.join(left)} of a part of the mesh {mesh.name} is left out: its other parts have none"
            )
        whole_ = {name: np.concatenate([_wide(columns[name], name) for columns in held]) for name in common}
        mesh.positions = _require(self.file, whole_["POSITION"], 3, where).astype(np.float32)
        if "NORMAL" in whole_:
            mesh.normals = _require(self.file, whole_["NORMAL"], 3, where).astype(np.float32)
        if "TANGENT" in whole_:
            mesh.tangents = _require(self.file, whole_["TANGENT"], 4, where).astype(np.float32)
        for kind, into, width in (("TEXCOORD", mesh.uvs, 2), ("COLOR", mesh.colours, 4)):
            number = 0
            while f"{kind}_{number}" in whole_:
                into.append(_require(self.file, whole_[f"{kind}_{number}"], width, where).astype(np.float32))
                number += 1
        self._weights(mesh, whole_, where)
        self._morphs(mesh, groups, own, where)

    def _weights(self, mesh: Mesh, held: dict[str, Array], where: str) -> None:
        joints, weights, number = [], [], 0
        while f"JOINTS_{number}" in held and f"WEIGHTS_{number}" in held:
            own = _require(self.file, held[f"JOINTS_{number}"], 4, where)
            if own.dtype.kind != "u":
                raise self.file.error("joints that are no whole numbers", where)
            joints.append(own.astype(np.int64))
            weights.append(_require(self.file, held[f"WEIGHTS_{number}"], 4, where).astype(np.float32))
            number += 1
        if joints:
            mesh.joints, mesh.weights = np.concatenate(joints, axis=1), np.concatenate(weights, axis=1)
            if not bool(np.isfinite(mesh.weights).all()) or bool((mesh.weights < 0).any()):
                raise self.file.error("a weight that is no number, or negative", where)
            mesh.joints = np.where(mesh.weights > 0, mesh.joints, 0)

    def _morphs(
        self, mesh: Mesh, groups: list[tuple[int, dict[str, Any], list[Any]]], own: dict[str, Any], where: str
    ) -> None:
        count = len(groups[0][2])
        if not count or any(len(targets) != count for _, _, targets in groups):
            return
        extras = own.get("extras")
        names = extras.get("targetNames") if isinstance(extras, dict) else None
        for at in range(count):
            positions = []
            for start, attributes, targets in groups:
                del start
                target = targets[at]
                size = len(self.file.accessor(attributes["POSITION"], where, 3))
                if not isinstance(target, dict):
                    raise self.file.error("a morph target that is no object", where)
                rows = (
                    np.asarray(self.file.accessor(target["POSITION"], where, 3), np.float32)
                    if "POSITION" in target
                    else np.zeros((size, 3), np.float32)
                )
                if len(rows) != size or not bool(np.isfinite(rows).all()):
                    raise self.file.error("a morph target of other vertices", where)
                positions.append(rows)
            named = isinstance(names, list) and at < len(names) and isinstance(names[at], str)
            mesh.morphs.append(Morph(names[at] if named and names else f"shape_{at}", np.concatenate(positions)))

    # materials

    def _material(self, number: int) -> Material:
        own, where = self.file.items("materials")[number], f"materials[{number}]"
        name = own.get("name")
        made = Material(name if isinstance(name, str) and name else f"material_{number}")
        plain = own.get("pbrMetallicRoughness", {})
        if not isinstance(plain, dict):
            raise self.file.error("pbrMetallicRoughness is no object", where)
        if "baseColorFactor" in plain:
            values = self.floats(plain["baseColorFactor"], 4, where)
            made.colour = (values[0], values[1], values[2], values[3])
        for what, said in (
            ("metalness", plain.get("metallicFactor", 1.0)),
            ("roughness", plain.get("roughnessFactor", 1.0)),
        ):
            setattr(made, what, self.floats([said], 1, where)[0])
        slots = [(role, plain.get(slot)) for slot, role in PLAIN_SLOTS.items()]
        slots += [(role, own.get(slot)) for slot, role in SLOTS.items()]
        for role, slot in slots:
            texture = self._texture(slot, where) if slot is not None else ""
            if texture:
                made.textures[role] = texture
        extras = own.get("extras")
        others = extras.get("textures") if isinstance(extras, dict) else None
        if isinstance(others, dict):
            made.textures |= {role: text for role, text in others.items() if isinstance(text, str)}
        made.alpha = {"MASK": "mask", "BLEND": "blend"}.get(str(own.get("alphaMode")), "opaque")
        made.cutoff = self.floats([own.get("alphaCutoff", 0.5)], 1, where)[0]
        made.two_sided = own.get("doubleSided") is True
        return made

    def _texture(self, slot: Any, where: str) -> str:
        """The game's name of a texture: that of its image."""
        if not isinstance(slot, dict):
            raise self.file.error("a texture that is no object", where)
        texture = self.file.item("textures", slot.get("index"), where)
        if "source" not in texture:
            return ""
        number: int = texture["source"]
        self.file.item("images", number, where)
        return self.images[number]


def marks_of(name: str) -> tuple[str, int, str]:
    """The name, level of detail and use in the name of a node: `boat.lod1`, `boat.collision`."""
    lod, use = 0, DRAWN
    for found in _MARKS.finditer(name):
        lod = int(found["lod"]) if found["lod"] else lod
        use = COLLISION if found["use"] else use
    return _MARKS.split(name)[0], lod, use


def wanted(name: str) -> bool:
    """Whether an attribute of vertices is one that is read."""
    return name in ("POSITION", "NORMAL", "TANGENT") or name.partition("_")[0] in (
        "TEXCOORD",
        "COLOR",
        "JOINTS",
        "WEIGHTS",
    )


def _wide(column: Array, name: str) -> Array:
    """Colours without alpha get one."""
    if name.startswith("COLOR") and column.shape[1] == 3:
        return np.concatenate([column, np.ones((len(column), 1), column.dtype)], axis=1)
    return column


def _require(file: GltfFile, values: Array, width: int, where: str) -> Array:
    if values.shape[1] != width:
        raise file.error(f"{values.shape[1]} numbers a vertex, expected {width}", where)
    return values


def _move(mesh: Mesh, matrix: Array) -> None:
    """Vertices by the matrix of their node."""
    if np.array_equal(matrix, np.eye(4)):
        return
    turn = matrix[:3, :3]
    mesh.positions = (mesh.positions @ turn.T + matrix[:3, 3]).astype(np.float32)
    normal = np.linalg.pinv(turn).T
    if mesh.normals is not None:
        mesh.normals = _unit(mesh.normals @ normal.T)
    if mesh.tangents is not None:
        hand = mesh.tangents[:, 3:] * (-1 if np.linalg.det(turn) < 0 else 1)
        mesh.tangents = np.concatenate([_unit(mesh.tangents[:, :3] @ turn.T), hand], axis=1).astype(np.float32)
    for morph in mesh.morphs:
        morph.positions = (morph.positions @ turn.T).astype(np.float32)
    if np.linalg.det(turn) < 0:
        mesh.triangles = mesh.triangles[:, [0, 2, 1]]


def _unit(values: Array) -> Array:
    length = np.linalg.norm(values, axis=1, keepdims=True)
    return np.asarray(values / np.where(length < 1e-20, 1, length), np.float32)
