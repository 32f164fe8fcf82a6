"""The same work by plain scripts: NumPy, trimesh and Pillow, with everything about the format written into them."""

from __future__ import annotations

import json
import struct
import sys
from multiprocessing import Process
from pathlib import Path

import numpy as np

VERTEX = np.dtype([("p", "<i2", 3), ("pad", "V2"), ("n", "i1", 4), ("uv", "<f2", 2)])


def read(data: bytes):  # type: ignore[no-untyped-def]
    _, vertices, indices, parts, scale, x, y, z = struct.unpack_from("<4sIIIf3f", data)
    at = 32 + parts * 24
    rows = np.frombuffer(data, VERTEX, vertices, at)
    triangles = np.frombuffer(data, "<u4", indices, at + rows.nbytes)
    points = (rows["p"] * scale + (x, y, z))[:, [0, 2, 1]].astype("<f4") / 100
    normals = (rows["n"][:, :3] / 127)[:, [0, 2, 1]].astype("<f4")
    normals /= np.linalg.norm(normals, axis=1, keepdims=True)
    return points, normals, rows["uv"].astype("<f4"), triangles


def write(data: bytes, target: Path) -> None:
    """One mesh as glTF, without materials."""
    points, normals, uvs, triangles = read(data)
    views, accessors, blob = [], [], b""
    for values, kind, component in (
        (points, "VEC3", 5126),
        (normals, "VEC3", 5126),
        (uvs, "VEC2", 5126),
        (triangles, "SCALAR", 5125),
    ):
        views.append({"buffer": 0, "byteOffset": len(blob), "byteLength": values.nbytes})
        one = {"bufferView": len(views) - 1, "componentType": component, "count": len(values), "type": kind}
        if values is points:
            one |= {"min": points.min(axis=0).tolist(), "max": points.max(axis=0).tolist()}
        accessors.append(one)
        blob += values.tobytes()
    root = {
        "asset": {"version": "2.0"},
        "scenes": [{"nodes": [0]}],
        "nodes": [{"mesh": 0}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0, "NORMAL": 1, "TEXCOORD_0": 2}, "indices": 3}]}],
        "accessors": accessors,
        "bufferViews": views,
        "buffers": [{"byteLength": len(blob)}],
    }
    text = json.dumps(root).encode()
    text += b" " * (-len(text) % 4)
    whole = struct.pack("<I4s", len(text), b"JSON") + text + struct.pack("<I4s", len(blob), b"BIN\0") + blob
    target.write_bytes(b"glTF" + struct.pack("<II", 2, len(whole) + 12) + whole)


def back(glb: Path, like: Path, target: Path) -> None:
    """A glTF file read by trimesh, and its positions in the place of the original's."""
    import trimesh

    scene = trimesh.load(glb, process=False)
    points = np.concatenate([one.vertices for one in scene.geometry.values()][:1])
    data = like.read_bytes()
    _, vertices, _, parts, scale, *_ = struct.unpack_from("<4sIIIf3f", data)
    rows = np.frombuffer(data, VERTEX, vertices, 32 + parts * 24).copy()
    rows["p"] = np.rint(points[:, [0, 2, 1]] * 100 / scale)
    at = 32 + parts * 24
    target.write_bytes(data[:at] + rows.tobytes() + data[at + rows.nbytes :])


def some(folder: Path, out: Path, share: int) -> None:
    """Half of all models and textures of a game."""
    from PIL import Image

    for path in sorted((folder / "models").iterdir())[share::2]:
        write(path.read_bytes(), out / f"{path.stem}.glb")
    for path in sorted((folder / "textures").iterdir())[share::2]:
        Image.open(path).save(out / "textures" / f"{path.stem}.png", compress_level=4)


def bulk(folder: Path, out: Path) -> None:
    (out / "textures").mkdir(parents=True)
    both = [Process(target=some, args=(folder, out, share)) for share in (0, 1)]
    for one in both:
        one.start()
    for one in both:
        one.join()


if __name__ == "__main__":
    job, *paths = sys.argv[1:]
    given = list(map(Path, paths))
    if job == "out":
        write(given[0].read_bytes(), given[1])
    elif job == "back":
        back(*given)
    else:
        bulk(*given)
