"""glTF 2.0 in one binary file. Source: Khronos, glTF 2.0 specification (ISO/IEC 12113), section 4.4."""

from __future__ import annotations

from collections.abc import Mapping

from volvex.asset.model.gltf_read import read as read
from volvex.asset.model.gltf_write import written
from volvex.asset.model.model import Model

NAMES = ("glb",)
EXTENSIONS = ("glb",)
WRITES = True


def fits(head: bytes, name: str) -> bool:
    """Whether a file is of this form: by its signature."""
    return head.startswith(b"glTF")


def write(model: Model, images: Mapping[str, str]) -> dict[str, bytes]:
    """The file's bytes."""
    return {"glb": written(model, images)}
