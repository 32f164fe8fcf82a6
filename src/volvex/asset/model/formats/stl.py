"""STL: triangles alone, as bytes or as text. Source: 3D Systems, StereoLithography Interface Specification, 1989."""

from __future__ import annotations

from collections.abc import Mapping

from volvex.asset.model.formats._trimesh import read_with, write_with
from volvex.asset.model.model import Model
from volvex.source import Source

NAMES: tuple[str, ...] = ()
EXTENSIONS = ("stl",)
WRITES = True


def fits(head: bytes, name: str) -> bool:
    """Whether a file is STL: `solid` and `facet` as text, or by its extension."""
    text = head.lstrip().lower()
    if text.startswith(b"solid") and b"facet" in text:
        return True
    return name.lower().endswith(".stl") and len(head) >= 84 and not text.startswith((b"{", b"<", b"solid"))


def read(source: Source) -> Model:
    """The model in a file."""
    kind = (
        "stl_ascii"
        if source.peek(0, 4096).lstrip().lower().startswith(b"solid") and b"facet" in source.peek(0, 4096).lower()
        else "stl"
    )
    return read_with(source, kind, "STL")


def write(model: Model, images: Mapping[str, str]) -> dict[str, bytes]:
    """The file's bytes."""
    return {"stl": write_with(model, "stl")}
