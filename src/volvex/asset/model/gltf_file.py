"""The parts of a glTF file, read without trust: its JSON, buffers, accessors. Source: glTF 2.0 specification, sections
3.6 and 4.4.

Whatever a file says is checked before it is used: sizes before memory is taken, numbers of other parts before they are
looked up, names of files beside it before they are opened.
"""

from __future__ import annotations

import base64
import binascii
import json
import posixpath
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import unquote

import numpy as np

from volvex.asset.model.model import LARGEST, MOST_MADE, Array
from volvex.errors import FRESH, FormatError
from volvex.source import Source

KINDS = {5120: "i1", 5121: "u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}
MOST_ELEMENTS = 1 << 27
KNOWN = {  # extensions that change nothing of what is read here, or that are read
    "KHR_mesh_quantization",
    "KHR_texture_transform",
    "KHR_materials_unlit",
    "KHR_materials_specular",
    "KHR_materials_emissive_strength",
    "KHR_materials_ior",
    "KHR_materials_clearcoat",
    "KHR_materials_sheen",
    "KHR_materials_transmission",
    "KHR_materials_volume",
    "KHR_materials_pbrSpecularGlossiness",
    "KHR_lights_punctual",
    "EXT_texture_webp",
    "KHR_texture_basisu",
}


@dataclass
class GltfFile:
    """A glTF file: its JSON, and what finds its numbers."""

    name: str
    root: dict[str, Any]
    own: bytes | None
    source: Source
    _buffers: dict[int, bytes] = field(default_factory=dict)
    _lists: dict[str, list[dict[str, Any]]] = field(default_factory=dict)

    def error(self, problem: str, where: str = "") -> FormatError:
        return FormatError(self.name, problem, field=where, hint="saving it again from a 3D program")

    def items(self, what: str) -> list[dict[str, Any]]:
        """One of the lists of the file, looked through once."""
        if what not in self._lists:
            found = self.root.get(what, [])
            if not isinstance(found, list) or not all(isinstance(one, dict) for one in found):
                raise self.error(f"{what} is no list of objects")
            self._lists[what] = found
        return self._lists[what]

    def item(self, what: str, number: Any, where: str) -> dict[str, Any]:
        """One object by its number."""
        found = self.items(what)
        if not isinstance(number, int) or isinstance(number, bool) or not 0 <= number < len(found):
            raise self.error(f"there is no {what} {number!r}, there are {len(found)}", where)
        return found[number]

    def buffer(self, number: int) -> bytes:
        """The bytes of a buffer: in the file, in its JSON, or in a file beside it."""
        if number not in self._buffers:
            where = f"buffers[{number}]"
            own = self.item("buffers", number, where)
            length = whole(self, own.get("byteLength"), where, LARGEST)
            uri = own.get("uri")
            if uri is None and number == 0 and self.own is not None:
                data = self.own
            else:
                data = self.outside(uri, where)
            if len(data) < length:
                raise self.error(f"{len(data):,} bytes, expected {length:,}", where)
            self._buffers[number] = data
        return self._buffers[number]

    def outside(self, uri: Any, where: str) -> bytes:
        """What a URI holds: base64 in itself, or a file in the same folder or below; FormatError for all else."""
        if not isinstance(uri, str):
            raise self.error("there is no URI of it", where)
        if uri.startswith("data:"):
            head, comma, text = uri.partition(",")
            if not comma or not head.endswith(";base64") or len(text) > LARGEST:
                raise self.error("a data URI that is not base64", where)
            try:
                return base64.b64decode(text, validate=True)
            except (binascii.Error, ValueError) as error:
                raise self.error("a data URI whose base64 is damaged", where) from error
        name = safe_uri(uri)
        if name is None:
            raise self.error(f"the file {uri[:80]!r} is not beside it", where)
        found = self.source.beside(name) if self.source.beside is not None else None
        if found is None:
            raise FormatError(self.name, f"the file {name} is missing", field=where, hint="the file beside it")
        with found:
            if found.size > LARGEST:
                raise self.error(f"{name} has {found.size:,} bytes", where)
            return found.read(0, found.size)

    def view(self, number: Any, where: str) -> tuple[memoryview, int]:
        """The bytes of a view, and its stride (0: none)."""
        own = self.item("bufferViews", number, where)
        place = f"bufferViews[{number}]"
        data = self.buffer(whole(self, own.get("buffer"), place, 1 << 20))
        start = whole(self, own.get("byteOffset", 0), place, LARGEST)
        size = whole(self, own.get("byteLength"), place, LARGEST)
        stride = whole(self, own.get("byteStride", 0), place, 252)
        if start + size > len(data):
            raise self.error(f"bytes {start:,} to {start + size:,} of a buffer of {len(data):,}", place)
        return memoryview(data)[start : start + size], stride

    def accessor(self, number: Any, where: str, width: int | None = None) -> Array:
        """The numbers of an accessor as they are stored: rows x width; normalised ones as floats."""
        own = self.item("accessors", number, where)
        place = f"accessors[{number}]"
        kind, shape = _stored(own.get("componentType")), WIDTHS.get(str(own.get("type")))
        if kind is None or shape is None:
            raise self.error(f"numbers of type {own.get('componentType')!r}, {own.get('type')!r}", place)
        if width is not None and shape != width:
            raise self.error(f"{own['type']} where {width} numbers are expected", place)
        count = whole(self, own.get("count"), place, MOST_ELEMENTS)
        dtype = np.dtype(kind)
        if "bufferView" in own:
            values = self._viewed(own, place, dtype, shape, count)
        elif count <= MOST_MADE:
            values = np.zeros((count, shape), dtype)
        else:
            raise self.error("zeros of more than any model has", place)
        if "sparse" in own:
            values = self._with_sparse(own["sparse"], place, values)
        if own.get("normalized") and dtype.kind in "iu":
            values = np.maximum(values / np.float32(np.iinfo(dtype).max), -1).astype(np.float32)
        return values

    def _viewed(self, own: dict[str, Any], path: str, dtype: np.dtype[Any], shape: int, count: int) -> Array:
        data, stride = self.view(own["bufferView"], path)
        start, element = whole(self, own.get("byteOffset", 0), path, LARGEST), dtype.itemsize * shape
        step = stride or element
        if step < element or (count and start + step * (count - 1) + element > len(data)):
            raise self.error(f"{count:,} elements of {element} bytes in a view of {len(data):,}", path)
        if not count:
            return np.zeros((0, shape), dtype)
        raw = np.frombuffer(data, np.uint8)[start:]
        rows = np.lib.stride_tricks.as_strided(raw, (count, element), (step, 1), writeable=False)
        return np.ascontiguousarray(rows).view(dtype).reshape(count, shape)

    def _with_sparse(self, sparse: Any, path: str, values: Array) -> Array:
        if not isinstance(sparse, dict):
            raise self.error("sparse is no object", path)
        count = whole(self, sparse.get("count"), path, len(values))
        indices, others = sparse.get("indices"), sparse.get("values")
        if not isinstance(indices, dict) or not isinstance(others, dict):
            raise self.error("sparse numbers without their places", path)
        kind = _stored(indices.get("componentType")) or ""
        if kind not in ("u1", "<u2", "<u4"):
            raise self.error("the places of sparse numbers are no whole numbers", path)
        rows = self._viewed(indices, path, np.dtype(kind), 1, count)[:, 0].astype(np.int64)
        if count and int(rows.max()) >= len(values):
            raise self.error(f"a sparse number at {int(rows.max()):,} of {len(values):,}", path)
        made = values.copy()
        made[rows] = self._viewed(others, path, values.dtype, values.shape[1], count)
        return made


def _stored(said: Any) -> str | None:
    """How numbers of a component type are stored; None for none."""
    return KINDS.get(said) if isinstance(said, int) else None


def whole(file: GltfFile, value: Any, where: str, most: int) -> int:
    """A whole number that is not negative, and not larger than it can be; FormatError for anything else."""
    if isinstance(value, float) and value.is_integer():
        value = int(value)
    if not isinstance(value, int) or isinstance(value, bool) or not 0 <= value <= most:
        raise file.error(f"{str(value)[:40]} where a number from 0 to {most:,} is expected", where)
    return value


def safe_uri(uri: str) -> str | None:
    """The path of a file in the same folder or below it; None for one that leads elsewhere."""
    name = unquote(uri).replace("\\", "/")
    if ":" in name or name.startswith("/") or "\0" in name or not name:
        return None
    plain = posixpath.normpath(name)
    return None if plain.startswith("..") or plain in (".", "") else plain


def open_gltf(source: Source) -> GltfFile:
    """A .glb or .gltf file; FormatError when it is none, damaged, or needs what is not read here."""
    if source.size > LARGEST:
        raise FormatError(source.name, f"{source.size:,} bytes, more than any model has", hint="a smaller model")
    data, own = source.read(0, source.size), None
    if data[:4] == b"glTF":
        text, own = _chunks(data, source.name)
    else:
        text = data.removeprefix(b"\xef\xbb\xbf")
    try:
        root = json.loads(text.decode("utf-8"))
    except (ValueError, RecursionError) as error:
        raise FormatError(source.name, "its JSON is damaged", hint=FRESH) from error
    if not isinstance(root, dict):
        raise FormatError(source.name, "its JSON is no object", hint=FRESH)
    file = GltfFile(source.name, root, own, source)
    asset = root.get("asset")
    version = str(asset.get("version", "")) if isinstance(asset, dict) else ""
    if not version.startswith("2."):
        raise file.error(f"glTF of version {version[:20] or 'none'}, expected 2.0", "asset.version")
    required = root.get("extensionsRequired", [])
    unknown = [one for one in required if one not in KNOWN] if isinstance(required, list) else ["none"]
    if unknown:
        raise FormatError(
            source.name,
            f"it needs the extension {str(unknown[0])[:60]}, which is not read here",
            hint="saving it without compression or other extensions",
        )
    return file


def _chunks(data: bytes, name: str) -> tuple[bytes, bytes | None]:
    if len(data) < 20 or int.from_bytes(data[4:8], "little") != 2:
        raise FormatError(name, "no binary glTF of version 2", hint=FRESH)
    length, at, found = min(len(data), int.from_bytes(data[8:12], "little")), 12, dict[bytes, bytes]()
    if int.from_bytes(data[8:12], "little") > len(data):
        raise FormatError(
            name, f"{len(data):,} bytes, its head gives {int.from_bytes(data[8:12], 'little'):,}", hint=FRESH
        )
    while at + 8 <= length:
        size, kind = int.from_bytes(data[at : at + 4], "little"), data[at + 4 : at + 8]
        if at + 8 + size > length:
            raise FormatError(name, "a chunk reaches past the end", offset=at, hint=FRESH)
        found.setdefault(kind, data[at + 8 : at + 8 + size])
        at += 8 + size
    if b"JSON" not in found:
        raise FormatError(name, "it has no JSON chunk", hint=FRESH)
    return found[b"JSON"], found.get(b"BIN\0")
