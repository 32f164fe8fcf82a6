"""Writes the slip: the game's own packing of models, by code that shares nothing with the game's reader but the
formats' heads."""

from __future__ import annotations

import math
import random
import struct
import zlib
from pathlib import Path
from typing import Any

import numpy as np

from kelpwick.slip import shapes
from kelpwick.slip.shapes import Shape

Array = Any
FOLDER = "slip"
KMM = struct.Struct(
    "<4sHHIHHf3f3f3f3ff24sI"
)  # mark, vertices, points, indices, parts, flags, scale, offset, box, sphere, skeleton, crc
KMM_PART = struct.Struct("<12s16sIIBBH")  # name, material, first index, indices, level, use, paint
KMM_VERTEX = np.dtype([("p", "<i2", 3), ("paint", "<u2"), ("n", "<u4"), ("t", "i1", 4), ("uv", "<f2", 2), ("j", "u1", 4), ("w", "u1", 4)])  # fmt: skip  # noqa: E501
KMM_POINT = struct.Struct("<8s2f")
KML = struct.Struct(">4sIIHHHH24s3f3f")  # mark, vertices, indices, parts, bones, flags, names, skeleton, box
KML_PART = struct.Struct(
    ">HBBIIIIHH3ff"
)  # name, level, use, first index, indices, first vertex, vertices, first bone, bones, sphere
KMS_JOINT = struct.Struct("<16sh2x3f4f12f")
KMA = struct.Struct("<4s24sBBHHHI")  # mark, skeleton, rate, flags, frames, tracks, turns, moves
KMA_TRACK = struct.Struct("<IBBHI3f3f")  # hash of the joint, way, flags, keys, first key, scale, offset
MATERIALS = (  # name, colour, normal, tint, how it is seen through, cutoff, two sided
    ("hull", "", "canvas/patience_hull_n", (150, 92, 52, 255), 0, 128, 0),
    ("sail", "CANVAS/Patience_Sail", "", (255, 255, 255, 255), 1, 100, 1),
    ("rig", "", "", (96, 72, 48, 255), 0, 128, 0),
    ("stone", "pictures\\lamps\\old_light", "", (255, 255, 255, 255), 0, 128, 0),
    ("glass", "canvas/lamp_room_pane.kwi", "", (255, 255, 255, 160), 2, 128, 1),
    ("beam", "lens_glow", "", (255, 240, 180, 96), 2, 128, 1),
    ("tar", "", "", (40, 36, 34, 255), 0, 128, 0),
)


def write(folder: Path, rng: random.Random) -> None:
    home = folder / FOLDER
    home.mkdir(exist_ok=True)
    (home / "patience.kmm").write_bytes(boat_file(rng))
    (home / "old_light.kml").write_bytes(light_file())
    for name, joints in (("patience", shapes.BOAT_JOINTS), ("old_light", shapes.LIGHT_JOINTS)):
        (home / f"{name}.kms").write_bytes(skeleton_file(joints))
    (home / "patience_row.kma").write_bytes(_rowing())
    (home / "old_light_turn.kma").write_bytes(_turning())
    (home / "materials.kmt").write_bytes(materials_file())
    obj, mtl = _buoy()
    (home / "buoy.obj").write_text(obj, encoding="utf-8", newline="\n")
    (home / "buoy.mtl").write_text(mtl, encoding="utf-8", newline="\n")


def fnv(text: str) -> int:
    """FNV-1a of 32 bits."""
    number = 0x811C9DC5
    for byte in text.encode():
        number = (number ^ byte) * 0x01000193 & 0xFFFFFFFF
    return number


# the boat


def _game(points: Array) -> Array:
    """From metres with y up and the right hand to centimetres with z up and the left."""
    return points[:, [0, 2, 1]] * 100.0


def boat_file(rng: random.Random) -> bytes:
    """A boat as KMM1."""
    parts = [(name, material, shape, level) for level in (0, 1) for name, material, shape in shapes.boat(level)]
    points = np.concatenate([_game(shape.positions) for _, _, shape, _ in parts])
    low, high = points.min(axis=0), points.max(axis=0)
    offset = ((low + high) / 2).astype(np.float32)
    scale = np.float32((high - low).max() / 2 / 32760)
    rows, indices, records, vertices = [], list[int](), [], 0
    for name, material, shape, level in parts:
        rows.append(_boat_vertices(shape, float(scale), offset, rng))
        records.append((name, material, len(indices), shape.triangles.size, level, 0))
        indices += (shape.triangles.reshape(-1) + vertices).tolist()
        vertices += len(shape.positions)
    merged = _merged(records)
    guard = shapes.box((-0.8, -0.1, -2.0), (0.8, 0.9, 2.0))
    rows.append(_boat_vertices(guard, float(scale), offset, rng))
    merged.append(("guard", "tar", len(indices), guard.triangles.size, 0, 1))
    indices += (guard.triangles.reshape(-1) + vertices).tolist()
    table = np.concatenate(rows)
    drawn = table["p"][: len(table) - 8].astype(np.float64) * float(scale) + offset
    least, most = drawn.min(axis=0), drawn.max(axis=0)
    centre = (least + most) / 2
    radius = float(np.sqrt(((drawn - centre) ** 2).sum(axis=1).max()))
    body = table.tobytes()
    hard = b"".join(KMM_POINT.pack(name, *at) for name, at in ((b"lantern", (0.0, 190.0)), (b"rope", (-20.0, -180.0))))
    head = KMM.pack(b"KMM1", len(table), 2, len(indices), len(merged), 7, float(scale), *offset.tolist(), *least, *most, *centre, radius, b"patience.kms", zlib.crc32(body))  # fmt: skip  # noqa: E501
    stored = b"".join(
        KMM_PART.pack(name.encode(), material.encode(), first, count, level, use, rng.randrange(65536))
        for name, material, first, count, level, use in merged
    )
    return head + stored + body + np.array(indices, "<u2").tobytes() + hard


Record = tuple[str, str, int, int, int, int]


def _merged(records: list[Record]) -> list[Record]:
    """Parts of one name and level that lie one behind the other as one."""
    made: list[Record] = []
    for name, material, first, count, level, use in records:
        if made and made[-1][0] == name and made[-1][4] == level:
            before = made.pop()
            first, count = before[2], before[3] + count
        made.append((name, material, first, count, level, use))
    return made


def _boat_vertices(shape: Shape, scale: float, offset: Array, rng: random.Random) -> Array:
    made = np.zeros(len(shape.positions), KMM_VERTEX)
    made["p"] = np.rint((_game(shape.positions) - offset) / scale)
    made["paint"] = [rng.randrange(65536) for _ in made]
    normals = _game(shape.normals) / 100
    packed = np.rint((normals + 1) / 2 * 1023).astype(np.uint32)
    made["n"] = packed[:, 0] | packed[:, 1] << 10 | packed[:, 2] << 20 | 1 << 30
    side = np.cross(normals, (0.0, 0.0, 1.0))
    length = np.linalg.norm(side, axis=1, keepdims=True)
    side = np.where(length > 1e-6, side / np.where(length > 1e-6, length, 1), [1.0, 0.0, 0.0])
    made["t"][:, :3] = np.rint(side * 127)
    made["t"][:, 3] = 127
    made["uv"] = shape.uvs
    for at, (joint, weight) in enumerate(shape.joints):
        made["j"][:, at] = joint
        made["w"][:, at] = math.floor(weight * 255)
    made["w"][:, 0] += (255 - made["w"].astype(int).sum(axis=1)).astype(np.uint8)
    return made


# the lighthouse


def light_file() -> bytes:
    """The lighthouse as KML1."""
    parts = [(name, material, shape, level) for level in (0, 1) for name, material, shape in shapes.lighthouse(level)]
    pool, places = bytearray(), dict[str, int]()
    for name, material, _, _ in parts:
        for text in (name, material):
            if text not in places:
                places[text] = len(pool)
                pool += text.encode() + b"\0"
    whole = np.concatenate([_game(shape.positions) for _, _, shape, _ in parts]).astype(">f2")
    normals = np.concatenate([shape.normals[:, [0, 2, 1]] for _, _, shape, _ in parts])
    uvs = np.concatenate([shape.uvs for _, _, shape, _ in parts])
    records, strips, bones, joints, at, materials = [], list[int](), list[int](), list[int](), 0, list[int]()
    for name, material, shape, level in parts:
        count, own = len(shape.positions), sorted({joint for joint, _ in shape.joints})
        strip = _strip(shape.triangles.tolist())
        used = whole[at : at + count].astype(np.float64)
        centre = (used.min(axis=0) + used.max(axis=0)) / 2
        radius = float(np.sqrt(((used - centre) ** 2).sum(axis=1).max()))
        records.append(
            KML_PART.pack(
                places[name], level, 0, len(strips), len(strip), at, count, len(bones), len(own), *centre, radius
            )
        )
        materials.append(places[material])
        strips += strip
        joints += [own.index(shape.joints[0][0])] * count
        bones += own
        at += count
    exact = whole.astype(np.float64)
    low, high = exact.min(axis=0), exact.max(axis=0)
    head = KML.pack(
        b"KML1", len(whole), len(strips), len(parts), len(bones), 3, len(pool), b"old_light.kms", *low, *high
    )
    columns = [
        whole.tobytes(),
        np.rint(_octahedral(normals) * 127).astype("i1").tobytes(),
        np.rint(np.clip(uvs * [1, -1] + [0, 1], 0, 1) * 65535).astype(">u2").tobytes(),
        np.array(joints, "u1").tobytes(),
        np.array(strips, ">u2").tobytes(),
    ]
    stored = b"".join(record + struct.pack(">H", material) for record, material in zip(records, materials, strict=True))
    return b"".join([head, stored, np.array(bones, ">u2").tobytes(), bytes(pool), *columns])


def _octahedral(normals: Array) -> Array:
    x, y, z = (normals / np.abs(normals).sum(axis=1, keepdims=True)).T
    folded = np.stack([np.copysign(1 - np.abs(y), x), np.copysign(1 - np.abs(x), y)], axis=1)
    return np.where((z < 0)[:, None], folded, np.stack([x, y], axis=1))


def _strip(triangles: list[list[int]]) -> list[int]:
    """A strip of pairs of triangles, as sheets have them, joined by triangles of no area."""
    made: list[int] = []
    for at in range(0, len(triangles), 2):
        (a, b, c), (_, d, _) = triangles[at], triangles[at + 1]
        run = [a, b, c, d]
        if made:
            made += [made[-1], run[0]]
        made += run
    return made


# skeletons, animations, materials


def skeleton_file(joints: Any) -> bytes:
    """A skeleton as KMS1."""
    rows, world = [], list[Array]()
    for name, parent, at in joints:
        place = np.array([at], float)
        world.append(place + (world[parent] if parent >= 0 else 0))
        local, whole = _game(place), _game(world[-1])
        inverse = [[1, 0, 0, -whole[0][0]], [0, 1, 0, -whole[0][1]], [0, 0, 1, -whole[0][2]]]
        flat = [float(one) for row in inverse for one in row]
        rows.append(KMS_JOINT.pack(name.encode(), parent, *local[0], 0.0, 0.0, 0.0, 1.0, *flat))
    body = b"".join(rows)
    return struct.pack("<4sHHI", b"KMS1", len(rows), 1, zlib.crc32(body)) + body


Keys = list[tuple[int, tuple[float, ...]]]


def animation_file(skeleton: str, rate: int, frames: int, tracks: list[tuple[str, int, Keys]]) -> bytes:
    """An animation as KMA1; tracks by joint and way (0 moves, 1 turns), with keys at frames."""
    records, turns, moves = [], list[bytes](), list[bytes]()
    for joint, way, keys in tracks:
        if way == 1:
            records.append(KMA_TRACK.pack(fnv(joint), 1, 5, len(keys), len(turns), 1, 1, 1, 0, 0, 0))
            turns += [struct.pack("<HI", frame, packed_turn(values)) for frame, values in keys]
            continue
        exact = np.array([values for _, values in keys])
        low = exact.min(axis=0).astype(np.float32)
        reach = (exact.max(axis=0) - low).astype(np.float32)
        records.append(KMA_TRACK.pack(fnv(joint), 0, 5, len(keys), len(moves), *reach.tolist(), *low.tolist()))
        whole = np.rint((exact - low) / np.where(reach == 0, 1, reach) * 65535).astype(int)
        moves += [struct.pack("<H3H", frame, *row) for (frame, _), row in zip(keys, whole.tolist(), strict=True)]
    head = KMA.pack(b"KMA1", skeleton.encode(), rate, 2, frames, len(tracks), len(turns), len(moves))
    return head + b"".join([*records, *turns, *moves])


def packed_turn(quaternion: tuple[float, ...]) -> int:
    """A turn in 32 bits: which number is the largest, and the other three in 10 bits each."""
    values = list(quaternion)
    largest = max(range(4), key=lambda at: abs(values[at]))
    if values[largest] < 0:
        values = [-one for one in values]
    others = [one for at, one in enumerate(values) if at != largest]
    number = largest
    for at, one in enumerate(others):
        number |= round((one * math.sqrt(2) + 1) / 2 * 1023) << 2 + 10 * at
    return number


def turn(axis: tuple[float, float, float], degrees: float) -> tuple[float, ...]:
    """A turn about an axis."""
    half = math.radians(degrees) / 2
    return (*(one * math.sin(half) for one in axis), math.cos(half))


def _rowing() -> bytes:
    frames = list(range(0, 25, 4))
    swing = [math.sin(2 * math.pi * frame / 24) for frame in frames]
    tracks: list[tuple[str, int, Keys]] = [
        ("oar_left", 1, [(frame, turn((0, 0, 1), 25 * one)) for frame, one in zip(frames, swing, strict=True)]),
        ("oar_right", 1, [(frame, turn((0, 0, 1), -25 * one)) for frame, one in zip(frames, swing, strict=True)]),
        ("sail", 1, [(0, turn((0, 0, 1), 0)), (12, turn((0, 0, 1), 12)), (24, turn((0, 0, 1), 0))]),
        ("hull", 0, [(frame, (0.0, 0.0, 20 + 6 * one)) for frame, one in zip(frames, swing, strict=True)]),
    ]
    return animation_file("patience.kms", 12, 25, tracks)


def _turning() -> bytes:
    return animation_file(
        "old_light.kms", 10, 41, [("beam", 1, [(frame, turn((0, 0, 1), 9 * frame)) for frame in range(0, 41, 10)])]
    )


def materials_file() -> bytes:
    """All materials as KMT1."""
    made = [b"KMT1", struct.pack("<H", len(MATERIALS))]
    for name, colour, normal, tint, alpha, cutoff, sided in MATERIALS:
        texts = b"".join(bytes([len(text)]) + text.encode() for text in (colour, normal))
        made.append(struct.pack("<16s", name.encode()) + texts + bytes((*tint, alpha, cutoff, sided)))
    return b"".join(made)


def _buoy() -> tuple[str, str]:
    shape = shapes.tube((0, -0.4, 0), (0, 0.9, 0), (0.5, 0.25), 12, [])
    lines = ["# the fairway buoy", "mtllib buoy.mtl", "o buoy"]
    lines += [f"v {x:.4f} {y:.4f} {z:.4f}" for x, y, z in shape.positions.tolist()]
    lines += [f"vt {u:.4f} {1 - v:.4f}" for u, v in shape.uvs.tolist()]
    lines += [f"vn {x:.4f} {y:.4f} {z:.4f}" for x, y, z in shape.normals.tolist()]
    lines.append("usemtl tar")
    lines += ["f " + " ".join(f"{one + 1}/{one + 1}/{one + 1}" for one in row) for row in shape.triangles.tolist()]
    return "\n".join(lines) + "\n", "newmtl tar\nKd 0.16 0.14 0.13\nd 1\n"
