"""Loads the slip as the game does: strictly, and with code of its own."""

from __future__ import annotations

import itertools
import math
import re
import struct
import zlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from kelpwick import GameError
from kelpwick.slip.make import (
    FOLDER,
    KMA,
    KMA_TRACK,
    KML,
    KML_PART,
    KMM,
    KMM_PART,
    KMM_POINT,
    KMM_VERTEX,
    KMS_JOINT,
    fnv,
)

Array = Any
BONES = 2  # that a part of the lighthouse may have
TEXTURES = ("", "canvas")  # where textures are looked for


@dataclass
class Part:
    """A part of a model as it is drawn: its material, its level, its triangles."""

    name: str
    material: str
    level: int
    use: int
    triangles: Array


@dataclass
class Loaded:
    """A model as the game has it."""

    name: str
    positions: Array
    parts: list[Part]
    joints: Array  # of each vertex: joints
    weights: Array
    skeleton: str = ""
    notes: list[str] = field(default_factory=list)

    def box(self) -> tuple[Array, Array]:
        """Around all that is drawn."""
        used = np.unique(np.concatenate([part.triangles.reshape(-1) for part in self.parts if part.use == 0]))
        return self.positions[used].min(axis=0), self.positions[used].max(axis=0)


@dataclass(frozen=True)
class Joint:
    name: str
    parent: int
    move: Array
    turn: Array
    inverse: Array  # 3 x 4


def read(folder: Path) -> Mapping[str, bytes]:
    """The files of the slip, and by `texture/...` the names of all files that may be textures."""
    home = folder / FOLDER
    found = {path.name: path.read_bytes() for path in sorted(home.iterdir()) if path.is_file()}
    for name in ("patience.kmm", "old_light.kml", "materials.kmt", "buoy.obj"):
        if name not in found:
            raise GameError(f"{FOLDER}/{name} is missing")
    for root in ("canvas",):
        found |= {f"texture/{root}/{path.name}": b"" for path in sorted((folder / root).iterdir())}
    return found


def models(files: Mapping[str, bytes]) -> Iterator[tuple[Loaded, list[Joint]]]:
    """Every model with its skeleton; GameError for what is not as it must be."""
    materials = _materials(files["materials.kmt"])
    for name, data in files.items():
        if not name.endswith((".kmm", ".kml", ".obj")):
            continue
        try:
            model = (
                _boat(data, name)
                if name.endswith(".kmm")
                else _light(data, name)
                if name.endswith(".kml")
                else _text(data, name)
            )
        except (struct.error, ValueError, IndexError) as error:
            raise GameError(f"{FOLDER}/{name} is cut off: {error}") from error
        joints = _skeleton(files, model.skeleton) if model.skeleton else []
        _check(model, joints, materials)
        yield model, joints


def _need(true: bool, name: str, problem: str) -> None:
    if not true:
        raise GameError(f"{FOLDER}/{name}: {problem}")


def _text_of(raw: bytes) -> str:
    return raw.rstrip(b"\0").decode("ascii", "replace")


def _boat(data: bytes, name: str) -> Loaded:
    mark, vertices, points, indices, parts, flags, scale, *rest, skeleton, checksum = KMM.unpack_from(data)
    offset, low, high, centre, radius = rest[:3], rest[3:6], rest[6:9], rest[9:12], rest[12]
    _need(mark == b"KMM1" and flags == 7, name, "no boat")
    at = KMM.size + parts * KMM_PART.size
    size = at + vertices * KMM_VERTEX.itemsize + indices * 2 + points * KMM_POINT.size
    _need(len(data) == size, name, f"{len(data)} bytes, its head gives {size}")
    body = data[at : at + vertices * KMM_VERTEX.itemsize]
    _need(zlib.crc32(body) == checksum, name, "the checksum of its vertices is wrong")
    rows = np.frombuffer(body, KMM_VERTEX)
    numbers = np.frombuffer(data, "<u2", indices, at + len(body)).astype(int)
    for number in range(points):
        hard = KMM_POINT.unpack_from(data, at + len(body) + indices * 2 + number * KMM_POINT.size)
        _need(_text_of(hard[0]).isalpha() and all(map(math.isfinite, hard[1:])), name, "a hard point without a name")
    _need(not len(numbers) or int(numbers.max()) < vertices, name, "an index beyond the vertices")
    _need(bool((rows["w"].astype(int).sum(axis=1) == 255).all()), name, "weights that do not sum to 255")
    packed = rows["n"]
    normals = np.stack([packed >> shift & 1023 for shift in (0, 10, 20)], axis=1) / 1023 * 2 - 1
    lengths = np.linalg.norm(normals, axis=1)
    _need(bool((np.abs(lengths - 1) < 0.01).all()), name, "a normal that is not of length 1")
    _need(bool(np.isfinite(rows["uv"].astype(float)).all()), name, "a place in the texture that is no number")
    positions = rows["p"].astype(np.float64) * scale + offset
    found = []
    for number in range(parts):
        part, material, first, count, level, use, _ = KMM_PART.unpack_from(data, KMM.size + number * KMM_PART.size)
        _need(count % 3 == 0 and first + count <= indices, name, f"part {number} has indices that are not there")
        found.append(
            Part(_text_of(part), _text_of(material), level, use, numbers[first : first + count].reshape(-1, 3))
        )
    model = Loaded(name, positions, found, rows["j"].astype(int), rows["w"] / 255, _text_of(skeleton))
    least, most = model.box()
    _need(
        bool(np.abs(least - low).max() < 1e-3 and np.abs(most - high).max() < 1e-3),
        name,
        "its box is not that of its vertices",
    )
    reach = float(np.sqrt(((positions[np.unique(np.concatenate([p.triangles.reshape(-1) for p in found if not p.use]))] - centre) ** 2).sum(axis=1).max()))  # fmt: skip  # noqa: E501
    _need(abs(reach - radius) < 0.01, name, "its sphere is not that of its vertices")
    return model


def _light(data: bytes, name: str) -> Loaded:
    mark, vertices, indices, parts, bones, flags, names, skeleton, *box = KML.unpack_from(data)
    _need(mark == b"KML1" and flags == 3, name, "no lighthouse")
    step, at = KML_PART.size + 2, KML.size
    table = [(*KML_PART.unpack_from(data, at + n * step), struct.unpack_from(">H", data, at + n * step + KML_PART.size)[0]) for n in range(parts)]  # fmt: skip  # noqa: E501
    at += parts * step
    owned = np.frombuffer(data, ">u2", bones, at).astype(int)
    at += bones * 2
    pool = data[at : at + names]
    at += names
    columns = []
    for dtype, width in ((">f2", 3), ("i1", 2), (">u2", 2), ("u1", 1)):
        columns.append(np.frombuffer(data, dtype, vertices * width, at).reshape(vertices, width).astype(np.float64))
        at += np.dtype(dtype).itemsize * width * vertices
    strips = np.frombuffer(data, ">u2", indices, at).astype(int)
    _need(len(data) == at + indices * 2, name, f"{len(data)} bytes, its head gives {at + indices * 2}")
    found, joints = [], np.zeros((vertices, 1), int)
    reached = 0
    for place, level, use, first, count, begin, own, bone, held, *sphere, material in table:
        _need(held <= BONES, name, f"a part of {held} bones, {BONES} fit")
        _need(begin == reached and begin + own <= vertices, name, "the vertices of a part do not follow those before")
        strip = strips[first : first + count]
        _need(
            len(strip) == count and (not count or int(strip.max()) < own),
            name,
            "an index beyond the vertices of its part",
        )
        local = columns[3][begin : begin + own, 0].astype(int)
        _need(bool((local < held).all()), name, "a vertex of a bone that its part has not")
        joints[begin : begin + own, 0] = owned[bone : bone + held][local]
        triangles = _triangles(strip) + begin
        used = columns[0][begin : begin + own]
        reach = float(np.sqrt(((used - sphere[:3]) ** 2).sum(axis=1).max())) if own else 0.0
        _need(abs(reach - sphere[3]) < 0.1, name, "the sphere of a part is not that of its vertices")
        found.append(Part(_pooled(pool, place, name), _pooled(pool, material, name), level, use, triangles))
        reached = begin + own
    _need(reached == vertices, name, "vertices of no part")
    model = Loaded(name, columns[0], found, joints, np.ones((vertices, 1)), _text_of(skeleton))
    least, most = model.box()
    _need(bool(np.abs(np.concatenate([least, most]) - box).max() < 1e-2), name, "its box is not that of its vertices")
    return model


def _pooled(pool: bytes, at: int, name: str) -> str:
    end = pool.find(b"\0", at)
    _need(0 <= at < len(pool) and end > at, name, f"there is no name at {at}")
    return pool[at:end].decode("ascii", "replace")


def _triangles(strip: Array) -> Array:
    rows = [(strip[n], strip[n + 1], strip[n + 2]) if n % 2 == 0 else (strip[n + 1], strip[n], strip[n + 2]) for n in range(len(strip) - 2)]  # fmt: skip  # noqa: E501
    return np.array([row for row in rows if len(set(row)) == 3]).reshape(-1, 3)


def _text(data: bytes, name: str) -> Loaded:
    """The game's reading of OBJ: positions, UVs and normals of each corner the same number, triangles only."""
    points, faces, materials = list[list[float]](), list[tuple[int, ...]](), list[str]()
    for number, line in enumerate(data.decode("utf-8").splitlines(), 1):
        words = line.split()
        if words[:1] == ["v"]:
            points.append([float(word) for word in words[1:4]])
        elif words[:1] == ["f"]:
            corners = [word.split("/") for word in words[1:]]
            _need(len(corners) == 3 and all(len(one) == 3 for one in corners), name, f"line {number} is no triangle")
            faces.append(tuple(int(one[0]) - 1 for one in corners))
        elif words[:1] == ["usemtl"]:
            materials.append(words[1])
        elif words and words[0] not in ("#", "mtllib", "o", "vt", "vn"):
            raise GameError(f"{FOLDER}/{name}: line {number} says {words[0]}")
    triangles = np.array(faces).reshape(-1, 3)
    _need(
        bool(len(faces)) and int(triangles.min()) >= 0 and int(triangles.max()) < len(points),
        name,
        "a face of no vertices",
    )
    part = Part("buoy", materials[0] if materials else "", 0, 0, triangles)
    return Loaded(name, np.array(points), [part], np.zeros((len(points), 1), int), np.ones((len(points), 1)))


def _skeleton(files: Mapping[str, bytes], name: str) -> list[Joint]:
    if name not in files:
        raise GameError(f"{FOLDER}/{name} is missing")
    data = files[name]
    mark, count, _, checksum = struct.unpack_from("<4sHHI", data)
    body = data[12:]
    _need(mark == b"KMS1" and len(body) == count * KMS_JOINT.size, name, "no skeleton")
    _need(zlib.crc32(body) == checksum, name, "its checksum is wrong")
    joints = []
    for number in range(count):
        raw, parent, *values = KMS_JOINT.unpack_from(body, number * KMS_JOINT.size)
        _need(-1 <= parent < number, name, f"joint {number} has parent {parent}")
        joints.append(
            Joint(
                _text_of(raw), parent, np.array(values[:3]), np.array(values[3:7]), np.array(values[7:]).reshape(3, 4)
            )
        )
    _need(len({joint.name for joint in joints}) == count, name, "two joints of one name")
    _need(all(abs(np.linalg.norm(joint.turn) - 1) < 1e-3 for joint in joints), name, "a turn that is not of length 1")
    for joint, (place, spin) in zip(joints, placed(joints, {}), strict=True):
        own = joint.inverse[:, :3] @ place + joint.inverse[:, 3]
        _need(bool(np.abs(own).max() < 0.05), name, f"the inverse pose of {joint.name} is not that of its joints")
        del spin
    return joints


def _materials(data: bytes) -> dict[str, tuple[str, ...]]:
    name = "materials.kmt"
    _need(data[:4] == b"KMT1", name, "no materials")
    count, at, found = struct.unpack_from("<H", data, 4)[0], 6, dict[str, tuple[str, ...]]()
    for _ in range(count):
        own = _text_of(data[at : at + 16])
        at, textures = at + 16, list[str]()
        for _ in range(2):
            size = data[at]
            textures.append(data[at + 1 : at + 1 + size].decode("ascii", "replace"))
            at += 1 + size
        _need(data[at + 4] in (0, 1, 2) and data[at + 6] in (0, 1) and own not in found, name, f"{own} is damaged")
        at += 7
        found[own] = tuple(texture for texture in textures if texture)
    _need(at == len(data), name, "bytes behind the last material")
    return found


def _check(model: Loaded, joints: list[Joint], materials: dict[str, tuple[str, ...]]) -> None:
    name = model.name
    for part in model.parts:
        _need(part.material in materials, name, f"there is no material {part.material}")
        _need(bool(len(part.triangles)), name, f"{part.name} has no triangles")
    levels = sorted({part.level for part in model.parts})
    _need(levels == list(range(len(levels))), name, f"levels {levels}")
    counts = [
        sum(len(part.triangles) for part in model.parts if part.level == level and not part.use) for level in levels
    ]
    _need(all(a > b for a, b in itertools.pairwise(counts)), name, f"levels of {counts} triangles")
    if joints:
        used = model.joints[model.weights > 0]
        _need(int(used.max()) < len(joints), name, f"a vertex of joint {int(used.max())}, there are {len(joints)}")


def placed(joints: list[Joint], pose: Mapping[tuple[int, int], Array]) -> list[tuple[Array, Array]]:
    """Where each joint is, and how it is turned; `pose`: by joint and way (0 moves, 1 turns) what an animation says."""
    found: list[tuple[Array, Array]] = []
    for number, joint in enumerate(joints):
        move, turn = pose.get((number, 0), joint.move), _matrix(pose.get((number, 1), joint.turn))
        if joint.parent < 0:
            found.append((move, turn))
        else:
            place, spin = found[joint.parent]
            found.append((place + spin @ move, spin @ turn))
    return found


def _matrix(q: Array) -> Array:
    x, y, z, w = q / np.linalg.norm(q)
    return np.array(
        [
            [1 - 2 * (y * y + z * z), 2 * (x * y - z * w), 2 * (x * z + y * w)],
            [2 * (x * y + z * w), 1 - 2 * (x * x + z * z), 2 * (y * z - x * w)],
            [2 * (x * z - y * w), 2 * (y * z + x * w), 1 - 2 * (x * x + y * y)],
        ]
    )


def animation(
    data: bytes, name: str, joints: list[Joint]
) -> tuple[int, int, dict[tuple[int, int], list[tuple[int, Array]]]]:
    """Frames a second, frames, and the keys of each joint and way."""
    mark, _, rate, flags, frames, tracks, turns, moves = KMA.unpack_from(data)
    size = KMA.size + tracks * KMA_TRACK.size + turns * 6 + moves * 8
    _need(mark == b"KMA1" and flags == 2 and rate > 0 and len(data) == size, name, "no animation")
    hashes = {fnv(joint.name): number for number, joint in enumerate(joints)}
    first, found = KMA.size + tracks * KMA_TRACK.size, dict[tuple[int, int], list[tuple[int, Array]]]()
    for number in range(tracks):
        joint, way, _, count, begin, *ranges = KMA_TRACK.unpack_from(data, KMA.size + number * KMA_TRACK.size)
        _need(joint in hashes and way in (0, 1), name, f"track {number} is of no joint")
        _need(
            begin + count <= (turns, moves)[way == 0] and count > 0, name, f"track {number} has keys that are not there"
        )
        keys = []
        for key in range(begin, begin + count):
            if way == 1:
                frame, packed = struct.unpack_from("<HI", data, first + key * 6)
                keys.append((frame, _unpacked(packed)))
            else:
                frame, *row = struct.unpack_from("<H3H", data, first + turns * 6 + key * 8)
                keys.append((frame, np.array(row) / 65535 * ranges[:3] + ranges[3:]))
        _need(
            all(a[0] < b[0] for a, b in itertools.pairwise(keys)),
            name,
            f"the keys of track {number} do not rise",
        )
        _need(keys[-1][0] < frames, name, f"track {number} goes on behind the last frame")
        found[hashes[joint], way] = keys
    return rate, frames, found


def _unpacked(number: int) -> Array:
    largest, others = number & 3, [((number >> 2 + 10 * at & 1023) / 1023 * 2 - 1) / math.sqrt(2) for at in range(3)]
    rest = math.sqrt(max(0.0, 1 - sum(one * one for one in others)))
    others.insert(largest, rest)
    return np.array(others)


def _at(keys: list[tuple[int, Array]], frame: float) -> Array:
    if frame <= keys[0][0]:
        return keys[0][1]
    for (one, before), (two, after) in itertools.pairwise(keys):
        if one <= frame <= two:
            share = (frame - one) / (two - one)
            after = -after if len(after) == 4 and float(before @ after) < 0 else after
            mixed = before + (after - before) * share
            return mixed / np.linalg.norm(mixed) if len(mixed) == 4 else mixed
    return keys[-1][1]


def texture_at(files: Mapping[str, bytes], pack: Mapping[str, bytes], wanted: str, material: str) -> str:
    """Where a texture is: by its path with or without an extension, in small letters, below a root."""
    plain = re.sub(r"\.[a-z0-9]+$", "", wanted.replace("\\", "/").lower())
    every = [name.removeprefix("texture/") for name in files if name.startswith("texture/")] + list(pack)
    for root in TEXTURES:
        for name in every:
            stem = re.sub(r"\.[a-z0-9]+$", "", name.lower())
            if stem == (f"{root}/{plain}" if root else plain):
                return name
    raise GameError(f"{FOLDER}/materials.kmt: {material} has the texture {wanted}, which is nowhere")


def screen(files: Mapping[str, bytes], pack: Mapping[str, bytes]) -> Iterator[str]:
    """What stands on the slip: how many triangles, how large, which textures; where joints are in the middle of an
    animation."""
    materials = _materials(files["materials.kmt"])
    for material, textures in materials.items():
        for texture in textures:
            texture_at(files, pack, texture, material)
    for model, joints in models(files):
        low, high = model.box()
        levels = sorted({part.level for part in model.parts})
        counts = "/".join(
            str(sum(len(p.triangles) for p in model.parts if p.level == level and not p.use)) for level in levels
        )
        size = " x ".join(f"{one:.2f}" for one in (high - low).tolist())
        yield f"  {model.name:<16}{len(model.positions):>5} vertices  {counts:>9} triangles  {size}"
        used = dict.fromkeys(part.material for part in model.parts)
        shown = [f"{one} {texture_at(files, pack, texture, one)}" for one in used for texture in materials[one]]
        if shown:
            yield f"    textures: {', '.join(shown)}"
        for name, data in files.items():
            if name.endswith(".kma") and joints and KMA.unpack_from(data)[1].rstrip(b"\0").decode() == model.skeleton:
                yield from _posed(data, name, joints)


def _posed(data: bytes, name: str, joints: list[Joint]) -> Iterator[str]:
    rate, frames, found = animation(data, name, joints)
    middle = (frames - 1) / 4
    pose = {key: _at(keys, middle) for key, keys in found.items()}
    tips = [place + spin @ np.array([1.0, 0, 0]) for place, spin in placed(joints, pose)]
    where = ", ".join(
        f"{joint.name} {' '.join(f'{one:.2f}' for one in tip.tolist())}"
        for joint, tip in zip(joints, tips, strict=True)
    )
    yield f"    {name}: {frames / rate:.2f} s, at frame {middle:g}: {where}"
