"""The images of a glTF file: what each is called, where it lies, and the bytes of those inside of the file."""

from __future__ import annotations

from typing import Any
from urllib.parse import unquote

from volvex.asset.model.gltf_file import GltfFile, whole
from volvex.asset.model.model import LARGEST, Model
from volvex.errors import FormatError

MOST_VIEWS = 1 << 24
MARKS = {b"\x89PNG\r\n\x1a\n": "image/png", b"\xff\xd8\xff": "image/jpeg"}


def mime_of(data: bytes) -> str | None:
    """The type of a picture that glTF may contain; None for all others."""
    return next((mime for mark, mime in MARKS.items() if data.startswith(mark)), None)


def images_of(file: GltfFile, model: Model, notes: list[str]) -> list[str]:
    """The names of all images: their own, else their files' without extension; no two inside of the file the same.

    Puts the pictures and the files of images into the model; of what is no picture a note.
    """
    names: list[str] = []
    taken: set[str] = set()
    views: dict[int, bytes] = {}
    held = 0
    for number, image in enumerate(file.items("images")):
        name, uri = image.get("name"), image.get("uri")
        outside = isinstance(uri, str) and not uri.startswith("data:")
        path = unquote(uri) if isinstance(uri, str) and outside else ""
        plain = name if isinstance(name, str) and name else path.rpartition("/")[2].rpartition(".")[0]
        if outside:
            names.append(plain or f"image_{number}")
            taken.add(names[-1])
            model.texture_files.setdefault(names[-1], path)
            continue
        own = plain or f"image_{number}"
        while own in taken:
            own = f"{own}~{number}"
        names.append(own)
        taken.add(own)
        held += _add(file, model, notes, (number, own), image, views)
        if held > LARGEST:
            raise file.error(f"its pictures have more than {LARGEST:,} bytes", f"images[{number}]")
    return names


def _add(
    file: GltfFile,
    model: Model,
    notes: list[str],
    which: tuple[int, str],
    image: dict[str, Any],
    views: dict[int, bytes],
) -> int:
    """Put one picture into the model; the bytes that were taken for it. `views`: those that were read, which images may
    share."""
    number, name = which
    where = f"images[{number}]"
    if "uri" not in image and "bufferView" not in image:
        return 0  # its name is all that there is
    known = len(views)
    try:
        if "uri" in image:
            data = file.outside(image["uri"], where)
        else:
            view = whole(file, image["bufferView"], where, MOST_VIEWS)
            if view not in views:
                views[view] = bytes(file.view(view, where)[0])
            data = views[view]
    except FormatError as error:
        notes.append(f"the texture {name} cannot be read: {error.message}")
        return 0
    if mime_of(data) is None:
        notes.append(f"the texture {name} inside of the file is neither PNG nor JPEG, and is left out")
    else:
        model.pictures[name] = data
    return len(data) if "uri" in image or len(views) > known else 0
