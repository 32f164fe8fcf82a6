"""glTF 2.0 as JSON, with its numbers in a file beside it. Source: Khronos, glTF 2.0 specification (ISO/IEC 12113)."""

from __future__ import annotations

import re
from collections.abc import Mapping

from volvex.asset.model.gltf_read import read as read
from volvex.asset.model.gltf_write import written_apart
from volvex.asset.model.model import Model

NAMES: tuple[str, ...] = ()
EXTENSIONS = ("gltf",)
WRITES = True
_ASSET = re.compile(rb'"asset"\s*:\s*\{[^{}]*"version"\s*:\s*"2')


def fits(head: bytes, name: str) -> bool:
    """Whether JSON is glTF: by its extension, or since it begins with what only that has."""
    plain = head.removeprefix(b"\xef\xbb\xbf").lstrip()
    return plain.startswith(b"{") and (name.lower().endswith(".gltf") or _ASSET.search(head) is not None)


def write(model: Model, images: Mapping[str, str]) -> dict[str, bytes]:
    """The file's bytes, and those of its numbers, in a file of the model's name."""
    text, data = written_apart(model, images, f"{model.name}.bin")
    return {"gltf": text, "bin": data} if data else {"gltf": text}
