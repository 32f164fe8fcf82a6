"""Models that have a signature. Sources: Khronos, glTF 2.0 specification; G. Turk, The PLY Polygon File Format,
1994."""

from __future__ import annotations

from volvex.archive.detect.types._base import FileType

LAID_OUT = ("mesh", "skeleton", "animation", "material")  # kinds of layouts of models in formats of games' own


def _glb_detail(head: bytes) -> str:
    return f"version {int.from_bytes(head[4:8], 'little')}"


def _ply_detail(head: bytes) -> str:
    found = [line.split() for line in head.split(b"\n")]
    count = {
        line[1].decode("ascii", "replace"): line[2].decode("ascii", "replace")
        for line in found
        if line[:1] == [b"element"] and len(line) > 2
    }
    return ", ".join(f"{number} {what}" for what, number in count.items())


TYPES = (
    FileType("glb", ((b"glTF", 0),), detail=_glb_detail),
    FileType("ply", ((b"ply\n", 0), (b"ply\r", 0)), detail=_ply_detail),
)
UNSIGNED = ("obj", "gltf", "dae", "stl")  # forms that are known by their content and their extension
MODELS = (*LAID_OUT, *(kind.name for kind in TYPES), *UNSIGNED)
