"""The images of a glTF file: what each is called, where it lies, and the bytes of those inside of the file."""

from __future__ import annotations

from typing import Any
from urllib.parse import unquote

from volvex.asset.models.gltf_file import GltfFile
from volvex.asset.models.model import Model
from volvex.errors import FormatError

MARKS = {b"\x89PNG\r\n\x1a\n": "image/png", b"\xff\xd8\xff": "image/jpeg"}


def mime_of(data: bytes) -> str | None:
    """The type of a picture that glTF may contain; None for all others."""
    return next((mime for mark, mime in MARKS.items() if data.startswith(mark)), None)


def images_of(file: GltfFile, model: Model, notes: list[str]) -> list[str]:
    """The names of all images: their own, else their files' without extension; no two inside of the file the same.

    Puts the pictures and the files of images into the model; of what is no picture a note.
    """
    names: list[str] = []
    for number, image in enumerate(file.items("images")):
        name, uri = image.get("name"), image.get("uri")
        outside = isinstance(uri, str) and not uri.startswith("data:")
        path = unquote(uri) if isinstance(uri, str) and outside else ""
        plain = name if isinstance(name, str) and name else path.rpartition("/")[2].rpartition(".")[0]
        if outside:
            names.append(plain or f"image_{number}")
            model.texture_files.setdefault(names[-1], path)
            continue
        own = plain or f"image_{number}"
        if own in names:
            own = f"{own}~{number}"
        names.append(own)
        _add(file, model, notes, number, own, image)
    return names


def _add(file: GltfFile, model: Model, notes: list[str], number: int, name: str, image: dict[str, Any]) -> None:
    where = f"images[{number}]"
    if "uri" not in image and "bufferView" not in image:
        return  # its name is all that there is
    try:
        if "uri" in image:
            data = file.outside(image["uri"], where)
        else:
            data = bytes(file.view(image["bufferView"], where)[0])
    except FormatError as error:
        notes.append(f"the texture {name} cannot be read: {error.message}")
        return
    if mime_of(data) is None:
        notes.append(f"the texture {name} inside of the file is neither PNG nor JPEG, and is left out")
        return
    model.pictures[name] = data
