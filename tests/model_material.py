"""Models for the tests: the stand-in game's slip read by its layouts, gathered from its folder, edited by other
programs."""

from __future__ import annotations

import functools
import io
import json
import logging
import shutil
import subprocess
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np

from kelpwick import slip
from kelpwick.slip.load import Joint, Loaded, animation, placed
from volvex.asset.model import gltf_read
from volvex.asset.model.exchange import TakenOver, exported, image_names, taken_over
from volvex.asset.model.gather import Gathered, Settings, gather
from volvex.asset.model.model import Model
from volvex.asset.model.open import OpenedModel, open_model
from volvex.asset.picture.model import Picture
from volvex.asset.picture.open import open_picture
from volvex.layout import Library
from volvex.source import BytesSource, FileSource, Source

logging.getLogger("trimesh").propagate = False  # it warns at length that SciPy is missing
logging.getLogger("trimesh").addHandler(logging.NullHandler())
SETTINGS = Settings(textures=("", "canvas"))
VALIDATOR = Path(__file__).parent / "gltf"


class FolderFiles:
    """The files of a folder as the game sees them."""

    def __init__(self, root: Path, library: Library) -> None:
        self.root, self.library = root, library
        self.paths = [path.relative_to(root).as_posix() for path in sorted(root.rglob("*")) if path.is_file()]

    def home(self, number: int) -> str:
        return self.paths[number]

    def open(self, number: int) -> Source:
        file = self.root / self.paths[number]
        source = FileSource(file, self.paths[number])
        source.beside = lambda name: FileSource(file.parent / name, name) if (file.parent / name).is_file() else None
        return source

    def picture(self, number: int) -> Picture | None:
        with self.open(number) as source:
            opened = open_picture(source, self.library)
            return opened.picture if opened is not None else None


@functools.cache
def game() -> Path:
    """The folders of the stand-in game that models need."""
    import atexit
    import random

    from kelpwick.holds import canvas

    folder = Path(tempfile.mkdtemp(prefix="slip-"))
    atexit.register(shutil.rmtree, folder, True)
    for part in (canvas, slip):
        part.write(folder, random.Random("7 models"))
    return folder


@functools.cache
def library() -> Library:
    return Library()


def gathered(name: str, folder: Path | None = None) -> tuple[OpenedModel, Gathered]:
    """A model of the slip with all that belongs to it."""
    files = FolderFiles(folder or game(), library())
    with files.open(files.paths.index(f"slip/{name}")) as file:
        source = BytesSource(file.read(0, file.size), file.name)
        source.beside = file.beside
    opened = open_model(source, library())
    assert opened is not None
    return opened, gather(opened, source.name, files, library(), SETTINGS)


def as_glb(found: Gathered) -> bytes:
    return exported(found, "glb", image_names(found)).files["glb"]


def from_glb(data: bytes, name: str = "edited.glb") -> Model:
    return gltf_read.read(BytesSource(data, name))


def written(opened: OpenedModel, taken: TakenOver) -> bytes:
    """The model's own file with an edit in it."""
    assert taken.mesh is not None and opened.own is not None
    return opened.own.write(taken.mesh)


def edited_file(name: str, data: bytes) -> tuple[bytes, TakenOver]:
    """The game's file with an edited glTF put into it, and what was taken over."""
    opened, found = gathered(name)
    taken = taken_over(found, from_glb(data))
    return written(opened, taken), taken


def loaded(changes: Mapping[str, bytes]) -> dict[str, tuple[Loaded, list[Joint]]]:
    """All models as the game's own loader reads them, with some files of the slip changed; GameError when it refuses
    one."""
    files = dict(slip.read(game())) | dict(changes)
    return {model.name: (model, joints) for model, joints in slip.models(files)}


def posed(data: bytes, name: str, frame: float, joints: list[Joint]) -> dict[str, Any]:
    """Where the joints are at a frame of an animation, as the game's own code places them."""
    from kelpwick.slip.load import _at

    _, _, keys = animation(data, name, joints)
    pose = {key: _at(values, frame) for key, values in keys.items()}
    return {joint.name: place for joint, (place, _) in zip(joints, placed(joints, pose), strict=True)}


def pygltf(data: bytes) -> Any:
    """A glTF file as pygltflib has it."""
    import pygltflib

    return pygltflib.GLTF2.load_from_bytes(data)


def numbers(gltf: Any, accessor: int) -> Any:
    """The numbers of an accessor, read by nothing of ours."""
    own = gltf.accessors[accessor]
    view = gltf.bufferViews[own.bufferView]
    dtype = {5121: "u1", 5123: "<u2", 5125: "<u4", 5126: "<f4"}[own.componentType]
    width = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT4": 16}[own.type]
    start = (view.byteOffset or 0) + (own.byteOffset or 0)
    return np.frombuffer(gltf.binary_blob(), dtype, own.count * width, start).reshape(own.count, width)


def put_numbers(gltf: Any, accessor: int, values: Any) -> None:
    """Put other numbers of the same shape into an accessor."""
    own = gltf.accessors[accessor]
    view = gltf.bufferViews[own.bufferView]
    start = (view.byteOffset or 0) + (own.byteOffset or 0)
    raw, blob = np.ascontiguousarray(values).tobytes(), bytearray(gltf.binary_blob())
    blob[start : start + len(raw)] = raw
    gltf.set_binary_blob(bytes(blob))
    if own.min:
        own.min, own.max = values.min(axis=0).tolist(), values.max(axis=0).tolist()


def add_accessor(gltf: Any, values: Any, kind: str) -> int:
    """A new accessor behind the others."""
    import pygltflib

    blob = bytearray(gltf.binary_blob() or b"")
    blob += bytes(-len(blob) % 4)
    raw = np.ascontiguousarray(values).tobytes()
    gltf.bufferViews.append(pygltflib.BufferView(buffer=0, byteOffset=len(blob), byteLength=len(raw)))
    blob += raw
    gltf.set_binary_blob(bytes(blob))
    gltf.buffers[0].byteLength = len(blob)
    component = {"u1": 5121, "u2": 5123, "u4": 5125, "f4": 5126}[values.dtype.str[1:]]
    flat = values.reshape(len(values), -1)
    gltf.accessors.append(
        pygltflib.Accessor(
            bufferView=len(gltf.bufferViews) - 1,
            componentType=component,
            count=len(values),
            type=kind,
            min=flat.min(axis=0).tolist(),
            max=flat.max(axis=0).tolist(),
        )
    )
    return len(gltf.accessors) - 1


def saved(gltf: Any) -> bytes:
    """The file's bytes as pygltflib saves them."""
    return b"".join(gltf.save_to_bytes())


def with_images_inside(gltf: Any, pictures: list[bytes]) -> None:
    """Put pictures inside of a file, as most programs save it: the first as bytes, others as base64 in the JSON."""
    import base64

    for number, (image, data) in enumerate(zip(gltf.images, pictures, strict=True)):
        image.uri, image.mimeType = None, "image/png"
        if number:
            image.uri = "data:image/png;base64," + base64.b64encode(data).decode()
            image.mimeType = None
        else:
            image.bufferView = gltf.accessors[add_accessor(gltf, np.frombuffer(data, np.uint8), "SCALAR")].bufferView
            gltf.accessors.pop()


def through_trimesh(data: bytes, edit: Any = None) -> bytes:
    """A file loaded, edited and saved by trimesh: it has no joints and no animations."""
    import trimesh

    scene = trimesh.load(io.BytesIO(data), file_type="glb", process=False)
    if edit is not None:
        edit(scene)
    return bytes(scene.export(file_type="glb"))


def validator() -> Path | None:
    """The folder in which node finds the validator of the makers of glTF; None when it is not there."""
    if shutil.which("node") is None or not (VALIDATOR / "node_modules" / "gltf-validator").is_dir():
        return None
    return VALIDATOR


def validated(files: list[Path]) -> dict[str, list[str]]:
    """The errors and warnings of each file, as the validator names them."""
    done = subprocess.run(
        ["node", str(VALIDATOR / "validate.js"), *map(str, files)], capture_output=True, text=True, check=True
    )
    found: dict[str, list[str]] = json.loads(done.stdout)
    return found
