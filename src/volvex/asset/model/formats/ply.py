"""PLY: vertices and faces, as bytes or as text. Source: G. Turk, The PLY Polygon File Format, 1994."""

from __future__ import annotations

from collections.abc import Mapping

from volvex.asset.model.formats._trimesh import read_with, write_with
from volvex.asset.model.model import Model
from volvex.source import Source

NAMES = ("ply",)
EXTENSIONS = ("ply",)
WRITES = True


def fits(head: bytes, name: str) -> bool:
    """Whether a file is PLY: by its first line."""
    return head.startswith((b"ply\n", b"ply\r")) and b"format" in head


def read(source: Source) -> Model:
    """The model in a file."""
    return read_with(source, "ply", "PLY")


def write(model: Model, images: Mapping[str, str]) -> dict[str, bytes]:
    """The file's bytes."""
    return {"ply": write_with(model, "ply")}
