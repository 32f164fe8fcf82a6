"""Models to measure on: a mesh of a million triangles in a format of its own, and 500 models that share 1,000
textures."""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np

SIDE = 708  # cells of the sheet that has a million triangles
MESH = """layout "great mesh"  kind mesh
little endian
known by "GRMS" at 0
block head at 0
    mark      4 bytes  is "GRMS"
    vertices  u32      count of vertices
    indices   u32      count of indices
    parts     u32      count of parts
    scale     f32      position scale
    offset    array of 3 f32  position offset
block parts after head repeats
    material  text 16  part material
    first     u32      first index
    count     u32      index count
block vertices after parts repeats
    place     array of 3 i16  position
    pad       2 bytes  kept
    normal    array of 4 i8   normal
    uv        array of 2 f16  uv
block indices after vertices repeats
    index     u32      index
content as model(up z, handed left, units 100)
"""
MATERIALS = """layout "great materials"  kind material
little endian
known by "GRMT" at 0
block head at 0
    mark      4 bytes  is "GRMT"
    count     u32      count of materials
block materials after head repeats
    name      text 16  material name
    colour    text 32  colour texture
"""
GAME = """name = "Many models"
known = ["many-models.ini"]
[models]
textures = ["textures"]
materials = ["*.grmt"]
"""


def mesh(side: int, material: str, parts: int = 4) -> bytes:
    """A hilly sheet of side x side cells."""
    u, v = np.meshgrid(np.arange(side + 1) / side, np.arange(side + 1) / side)
    height = np.sin(u * 9) * np.cos(v * 7)
    points = np.stack([u * 2 - 1, v * 2 - 1, height * 0.2], axis=2).reshape(-1, 3)
    rows = np.zeros(len(points), [("p", "<i2", 3), ("pad", "V2"), ("n", "i1", 4), ("uv", "<f2", 2)])
    rows["p"] = np.rint(points * 32000)
    slope = np.stack(
        [-9 * np.cos(u * 9) * np.cos(v * 7) * 0.1, 7 * np.sin(u * 9) * np.sin(v * 7) * 0.1, np.ones_like(u)], 2
    )
    normal = (slope / np.linalg.norm(slope, axis=2, keepdims=True)).reshape(-1, 3)
    rows["n"][:, :3] = np.rint(normal * 127)
    rows["uv"] = np.stack([u, v], axis=2).reshape(-1, 2)
    at = (np.arange(side)[:, None] * (side + 1) + np.arange(side)).reshape(-1)
    wide = side + 1
    triangles = np.stack([at, at + wide, at + 1, at + 1, at + wide, at + wide + 1], axis=1).reshape(-1)
    count = len(triangles) // 3 // parts
    sizes = [count * 3] * (parts - 1) + [len(triangles) - count * 3 * (parts - 1)]
    starts = np.cumsum([0, *sizes[:-1]]).tolist()
    records = [
        struct.pack("<16sII", f"{material}{number}".encode(), start, size)
        for number, (start, size) in enumerate(zip(starts, sizes, strict=True))
    ]
    head = struct.pack("<4sIIIf3f", b"GRMS", len(rows), len(triangles), parts, 200 / 32000, 0, 0, 0)
    return head + b"".join(records) + rows.tobytes() + triangles.astype("<u4").tobytes()


def home(folder: Path) -> Path:
    """A home with the layouts and the description of the game."""
    layouts = folder / "layouts"
    layouts.mkdir(parents=True, exist_ok=True)
    (layouts / "mesh.layout").write_text(MESH)
    (layouts / "materials.layout").write_text(MATERIALS)
    (folder / "game.toml").write_text(GAME)
    return folder


def great(path: Path) -> Path:
    """One mesh of a million triangles."""
    if not path.exists():
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(mesh(SIDE, "rock"))
    return path


def many(folder: Path, count: int = 500, textures: int = 1000) -> Path:
    """A game of many models, each with four materials, that share textures of 256 x 256 in blocks (BC1)."""
    if (folder / "many-models.ini").exists():
        return folder
    (folder / "textures").mkdir(parents=True, exist_ok=True)
    (folder / "models").mkdir(exist_ok=True)
    rng = np.random.default_rng(5)
    head = struct.pack("<4s7I44x", b"DDS ", 124, 0x81007, 256, 256, 32768, 0, 1) + struct.pack(
        "<2I4s5I5I", 32, 4, b"DXT1", 0, 0, 0, 0, 0, 0x1000, 0, 0, 0, 0
    )
    for number in range(textures):
        blocks = rng.integers(0, 256, (4096, 8), dtype=np.uint8)
        blocks[:, :4] = blocks[0, :4]  # few colours, as textures have
        (folder / "textures" / f"t{number:04}.dds").write_bytes(head + blocks.tobytes())
    records = []
    for number in range(count):
        (folder / "models" / f"m{number:04}.grms").write_bytes(mesh(40, f"m{number:04}_"))
        for part in range(4):
            name = f"m{number:04}_{part}"
            records.append(struct.pack("<16s32s", name.encode(), f"T{(number * 2 + part) % textures:04}".encode()))
    (folder / "all.grmt").write_bytes(b"GRMT" + struct.pack("<I", len(records)) + b"".join(records))
    (folder / "many-models.ini").write_text("[game]\n")
    return folder
