"""Models as glTF 2.0 binary files. Source: Khronos, glTF 2.0 specification (ISO/IEC 12113)."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any
from urllib.parse import quote

import numpy as np

from volvex.asset.model.gltf_images import mime_of
from volvex.asset.model.model import COLLISION, PATHS, ROUGHNESS, Array, Mesh, Model, Part, Skeleton, Track

FLOAT, U8, U16, U32 = 5126, 5121, 5123, 5125
TYPES = {1: "SCALAR", 2: "VEC2", 3: "VEC3", 4: "VEC4", 16: "MAT4"}
COMPONENTS = {np.dtype("f4"): FLOAT, np.dtype("u1"): U8, np.dtype("u2"): U16, np.dtype("u4"): U32}
VERTICES, INDICES = 34962, 34963  # what a view is for
SLOTS = {"normal": "normalTexture", "occlusion": "occlusionTexture", "emission": "emissiveTexture"}
ALPHA = {"opaque": "OPAQUE", "mask": "MASK", "blend": "BLEND"}
GENERATOR = "Volvex"


def lod_name(name: str, part: Part) -> str:
    """The name of the node for parts of one level of detail and use: `boat`, `boat.lod1`, `boat.collision`."""
    level = f".lod{part.lod}" if part.lod else ""
    return f"{name}{level}{'.' + COLLISION if part.use == COLLISION else ''}"


def written(model: Model, images: Mapping[str, str]) -> bytes:
    """A model as one .glb file. `images`: by the game's name of a texture, the file beside it that has it."""
    return packed(*_Writer(model, images).parts())


def written_apart(model: Model, images: Mapping[str, str], name: str) -> tuple[bytes, bytes]:
    """A model as JSON, and its numbers, which are to be in a file `name` beside it."""
    root, data = _Writer(model, images).parts()
    if data:
        root["buffers"][0]["uri"] = quote(name, errors="replace")
    return _json(root, 1), data


class _Writer:
    def __init__(self, model: Model, images: Mapping[str, str]) -> None:
        self.model, self.images = model, images
        self.data = bytearray()
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []
        self.nodes: list[dict[str, Any]] = []
        self.meshes: list[dict[str, Any]] = []
        self.skins: list[dict[str, Any]] = []
        self.textures: dict[str, int] = {}
        self.image_list: list[dict[str, Any]] = []
        self.scene: list[int] = []

    def parts(self) -> tuple[dict[str, Any], bytes]:
        """The JSON of the file, and its numbers."""
        materials = [self._material(number) for number in range(len(self.model.materials))]
        skin = self._skeleton(self.model.skeleton) if self.model.skeleton is not None else None
        for mesh in self.model.meshes:
            self._mesh(mesh, skin)
        animations = self._animations()
        root: dict[str, Any] = {"asset": {"version": "2.0", "generator": GENERATOR}, "scene": 0}
        root["scenes"] = [{"name": self.model.name, "nodes": self.scene} if self.scene else {"name": self.model.name}]
        lists = {
            "nodes": self.nodes,
            "meshes": self.meshes,
            "skins": self.skins if skin is not None and self.skins else [],
            "materials": materials,
            "animations": animations,
            "textures": [{"source": number} for number in range(len(self.image_list))],
            "images": self.image_list,
            "accessors": self.accessors,
            "bufferViews": self.views,
        }
        root |= {name: held for name, held in lists.items() if held}
        if self.data:
            root["buffers"] = [{"byteLength": len(self.data)}]
        return root, bytes(self.data)

    # numbers

    def _accessor(self, values: Array, target: int = 0, bounds: bool = False, normalized: bool = False) -> int:
        array = np.ascontiguousarray(values)
        self.data += bytes(-len(self.data) % 4)
        view: dict[str, Any] = {"buffer": 0, "byteOffset": len(self.data), "byteLength": array.nbytes}
        if target:
            view["target"] = target
        self.data += array.tobytes()
        self.views.append(view)
        width = 1 if array.ndim == 1 else int(np.prod(array.shape[1:]))
        made: dict[str, Any] = {
            "bufferView": len(self.views) - 1,
            "componentType": COMPONENTS[array.dtype.newbyteorder("=")],
            "count": len(array),
            "type": TYPES[width],
        }
        if normalized:
            made["normalized"] = True
        if bounds:
            flat = array.reshape(len(array), -1)
            made["min"], made["max"] = flat.min(axis=0).tolist(), flat.max(axis=0).tolist()
        self.accessors.append(made)
        return len(self.accessors) - 1

    # meshes

    def _mesh(self, mesh: Mesh, skin: int | None) -> None:
        """A node with a mesh for each level of detail and use; all of them share the vertices."""
        if not len(mesh.positions) or not len(mesh.triangles):
            return
        attributes = self._attributes(mesh, skin)
        targets = [self._target(morph.positions, morph.normals) for morph in mesh.morphs]
        kind: Any = np.uint16 if len(mesh.positions) < 65535 else np.uint32
        groups: dict[str, list[Part]] = {}
        for part in mesh.parts or [Part(0, len(mesh.triangles))]:
            if part.count:
                groups.setdefault(lod_name(mesh.name, part), []).append(part)
        for name, parts in groups.items():
            primitives = []
            for part in parts:
                own = mesh.triangles[part.start : part.start + part.count].reshape(-1).astype(kind)
                primitive: dict[str, Any] = {"attributes": attributes, "indices": self._accessor(own, INDICES)}
                if part.material >= 0:
                    primitive["material"] = part.material
                if part.name:
                    primitive["extras"] = {"part": part.name}
                if targets:
                    primitive["targets"] = targets
                primitives.append(primitive)
            made: dict[str, Any] = {"name": name, "primitives": primitives}
            if targets:
                made["weights"] = [0.0] * len(targets)
                made["extras"] = {"targetNames": [morph.name for morph in mesh.morphs]}
            self.meshes.append(made)
            node: dict[str, Any] = {"name": name, "mesh": len(self.meshes) - 1}
            if skin is not None and mesh.joints is not None:
                node["skin"] = skin
            self.nodes.append(node)
            self.scene.append(len(self.nodes) - 1)

    def _attributes(self, mesh: Mesh, skin: int | None) -> dict[str, int]:
        made = {"POSITION": self._accessor(mesh.positions.astype(np.float32), VERTICES, bounds=True)}
        if mesh.normals is not None:
            made["NORMAL"] = self._accessor(mesh.normals.astype(np.float32), VERTICES)
            if mesh.tangents is not None:
                made["TANGENT"] = self._accessor(mesh.tangents.astype(np.float32), VERTICES)
        for number, column in enumerate(mesh.uvs):
            made[f"TEXCOORD_{number}"] = self._accessor(column.astype(np.float32), VERTICES)
        for number, column in enumerate(mesh.colours):
            made[f"COLOR_{number}"] = self._accessor(np.clip(column, 0, 1).astype(np.float32), VERTICES)
        if skin is not None and mesh.joints is not None and mesh.weights is not None:
            for number in range(mesh.joints.shape[1] // 4):
                own = slice(number * 4, number * 4 + 4)
                made[f"JOINTS_{number}"] = self._accessor(mesh.joints[:, own].astype(np.uint16), VERTICES)
                made[f"WEIGHTS_{number}"] = self._accessor(mesh.weights[:, own].astype(np.float32), VERTICES)
        return made

    def _target(self, positions: Array, normals: Array | None) -> dict[str, int]:
        made = {"POSITION": self._accessor(positions.astype(np.float32), VERTICES, bounds=True)}
        if normals is not None:
            made["NORMAL"] = self._accessor(normals.astype(np.float32), VERTICES)
        return made

    # joints and animations

    def _skeleton(self, skeleton: Skeleton) -> int | None:
        """The nodes of joints, which are the first; the number of the skin when a mesh has one."""
        children: dict[int, list[int]] = {}
        for joint, parent in enumerate(skeleton.parents.tolist()):
            children.setdefault(parent, []).append(joint)
        for joint, name in enumerate(skeleton.names):
            node: dict[str, Any] = {"name": name}
            for what, values, none in (
                ("translation", skeleton.translations, [0.0, 0.0, 0.0]),
                ("rotation", skeleton.rotations, [0.0, 0.0, 0.0, 1.0]),
                ("scale", skeleton.scales, [1.0, 1.0, 1.0]),
            ):
                own = [float(one) for one in values[joint].astype(np.float32)]
                if own != none:
                    node[what] = own
            if children.get(joint):
                node["children"] = children[joint]
            self.nodes.append(node)
        self.scene += children.get(-1, [])
        if not len(skeleton) or all(mesh.joints is None for mesh in self.model.meshes):
            return None
        skin: dict[str, Any] = {"joints": list(range(len(skeleton)))}
        if skeleton.inverse_bind is not None:
            flat = skeleton.inverse_bind.transpose(0, 2, 1).reshape(-1, 16).astype(np.float32)
            skin["inverseBindMatrices"] = self._accessor(flat)
        self.skins.append(skin)
        return 0

    def _animations(self) -> list[dict[str, Any]]:
        found = []
        if self.model.skeleton is None:
            return []
        for animation in self.model.animations:
            samplers: list[dict[str, Any]] = []
            channels: list[dict[str, Any]] = []
            times: dict[bytes, int] = {}
            seen: set[tuple[int, str]] = set()
            for track in animation.tracks:
                if track.joint < 0 or track.joint >= len(self.model.skeleton) or (track.joint, track.path) in seen:
                    continue
                own = in_order(track)
                if not len(own.times):
                    continue
                seen.add((track.joint, track.path))
                raw = own.times.astype(np.float32).tobytes()
                if raw not in times:
                    times[raw] = self._accessor(own.times.astype(np.float32), bounds=True)
                sampler: dict[str, Any] = {"input": times[raw], "output": self._accessor(own.values.astype(np.float32))}
                if track.stepped:
                    sampler["interpolation"] = "STEP"
                channels.append(
                    {"sampler": len(samplers), "target": {"node": track.joint, "path": PATHS[PATHS.index(track.path)]}}
                )
                samplers.append(sampler)
            if channels:
                found.append({"name": animation.name, "channels": channels, "samplers": samplers})
        return found

    # materials

    def _material(self, number: int) -> dict[str, Any]:
        own = self.model.materials[number]
        plain: dict[str, Any] = {"metallicFactor": own.metalness, "roughnessFactor": own.roughness}
        if own.colour != (1.0, 1.0, 1.0, 1.0):
            plain["baseColorFactor"] = list(own.colour)
        made: dict[str, Any] = {"name": own.name, "pbrMetallicRoughness": plain}
        others = {}
        for role, name in own.textures.items():
            texture = self._texture(name)
            if texture is None:
                others[role] = name
            elif role == "colour":
                plain["baseColorTexture"] = {"index": texture}
            elif role == ROUGHNESS:
                plain["metallicRoughnessTexture"] = {"index": texture}
            elif role in SLOTS:
                made[SLOTS[role]] = {"index": texture}
            else:
                others[role] = name
        if "emissiveTexture" in made:
            made["emissiveFactor"] = [1.0, 1.0, 1.0]
        if others:
            made["extras"] = {"textures": others}
        if own.alpha != "opaque":
            made["alphaMode"] = ALPHA[own.alpha]
            if own.alpha == "mask":
                made["alphaCutoff"] = own.cutoff
        if own.two_sided:
            made["doubleSided"] = True
        return made

    def _texture(self, name: str) -> int | None:
        """The number of a texture; None when there is neither a file of it nor a picture inside of the model."""
        if name in self.textures:
            return self.textures[name]
        if name in self.images:
            image: dict[str, Any] = {"name": name, "uri": quote(self.images[name], errors="replace")}
        elif mime := mime_of(self.model.pictures.get(name, b"")):
            data = self.model.pictures[name]
            self.data += bytes(-len(self.data) % 4)
            self.views.append({"buffer": 0, "byteOffset": len(self.data), "byteLength": len(data)})
            self.data += data
            image = {"name": name, "mimeType": mime, "bufferView": len(self.views) - 1}
        else:
            return None
        self.textures[name] = len(self.image_list)
        self.image_list.append(image)
        return self.textures[name]


def in_order(track: Track) -> Track:
    """A track whose times rise, none before the start, as glTF wants them; of keys at one time the last stays."""
    times = np.maximum(track.times, 0)
    if len(times) < 2 or bool((np.diff(times) > 0).all()):
        return Track(track.joint, track.path, times, track.values, track.stepped)
    order = np.argsort(times, kind="stable")
    rows = order[np.append(np.diff(times[order]) > 0, True)]
    return Track(track.joint, track.path, times[rows], track.values[rows], track.stepped)


def _json(root: dict[str, Any], indent: int | None = None) -> bytes:
    """The JSON of a file; names that are no text, as damaged files have them, with escapes."""
    separators = (",", ":") if indent is None else None
    try:
        return json.dumps(root, indent=indent, separators=separators, ensure_ascii=False, allow_nan=False).encode()
    except UnicodeEncodeError:
        return json.dumps(root, indent=indent, separators=separators, allow_nan=False).encode()


def packed(root: dict[str, Any], data: bytes) -> bytes:
    """A binary glTF file of its JSON and its numbers."""
    text = _json(root)
    text += b" " * (-len(text) % 4)
    chunks = len(text).to_bytes(4, "little") + b"JSON" + text
    if data:
        data += bytes(-len(data) % 4)
        chunks += len(data).to_bytes(4, "little") + b"BIN\0" + data
    return b"glTF" + (2).to_bytes(4, "little") + (len(chunks) + 12).to_bytes(4, "little") + chunks
