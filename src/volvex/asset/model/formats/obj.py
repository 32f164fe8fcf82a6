"""OBJ with MTL: vertices, triangles and materials as text. Source: Wavefront, Advanced Visualizer, appendix B1 (object
files), 1992.

Faces of more than three corners become triangles around the first; curves are left out. What is written again keeps the
text of numbers that did not change.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

import numpy as np

from volvex.asset.model.gltf_read import marks_of
from volvex.asset.model.gltf_write import lod_name
from volvex.asset.model.model import (
    MOST_MADE,
    MOST_PARTS,
    Array,
    Material,
    Mesh,
    Model,
    Part,
    check_counts,
    check_mesh,
)
from volvex.errors import FRESH, FormatError
from volvex.source import Source

NAMES: tuple[str, ...] = ()
EXTENSIONS = ("obj",)
WRITES = True
_VERTEX = re.compile(rb"^v[ \t]+[-+0-9.eE]+[ \t]+[-+0-9.eE]+[ \t]+[-+0-9.eE]+", re.M)
_STATEMENT = re.compile(rb"^(v|vn|vt|f|o|g|usemtl|mtllib)[ \t]", re.M)
LARGEST = 1 << 30
MAPS = {
    "map_Kd": "colour",
    "map_Bump": "normal",
    "bump": "normal",
    "norm": "normal",
    "map_Ke": "emission",
    "map_Ks": "specular",
    "map_Ns": "gloss",
    "map_d": "mask",
}
BACK = {"colour": "map_Kd", "normal": "map_Bump", "emission": "map_Ke", "specular": "map_Ks", "gloss": "map_Ns"}


def fits(head: bytes, name: str) -> bool:
    """Whether text is OBJ: vertices on lines of their own, or the extension and any statement."""
    return bool(_VERTEX.search(head)) or (name.lower().endswith(".obj") and bool(_STATEMENT.search(head)))


@dataclass
class _Lines:
    """What the lines of a file say, in their order."""

    name: str
    v: list[str] = field(default_factory=list)
    vt: list[str] = field(default_factory=list)
    vn: list[str] = field(default_factory=list)
    corners: dict[tuple[int, int, int], int] = field(default_factory=dict)
    triangles: list[tuple[int, int, int]] = field(default_factory=list)
    parts: list[tuple[int, str, str]] = field(default_factory=list)  # first triangle, material, name
    libraries: list[str] = field(default_factory=list)
    other: list[str] = field(default_factory=list)


def read(source: Source) -> Model:
    """The model in a file, with the materials of the files beside it that it names."""
    if source.size > LARGEST:
        raise FormatError(source.name, f"{source.size:,} bytes of text", hint="a smaller model")
    text = source.read(0, source.size).decode("utf-8", "surrogateescape")
    lines = _Lines(source.name)
    for number, line in enumerate(_whole_lines(text), 1):
        try:
            _read_line(line, lines)
        except (ValueError, IndexError) as error:
            raise FormatError(source.name, f"line {number} is damaged: {line[:40]!r}", hint=FRESH) from error
    stem = source.name.rpartition("/")[2].rpartition(".")[0] or source.name
    materials = _materials(source, lines)
    where = {material.name: number for number, material in enumerate(materials)}
    mesh = _mesh(source.name, stem, lines)
    parts = {
        first: (material, name) for first, material, name in lines.parts
    }  # of several at one place the last counts
    check_counts(source.name, {"parts": (len(parts), MOST_PARTS)})
    ends = [*sorted(parts)[1:], len(lines.triangles)]
    for (first, (material, name)), end in zip(sorted(parts.items()), ends, strict=False):
        if end == first:
            continue
        if material and material not in where:
            where[material] = len(materials)
            materials.append(Material(material))
        plain, lod, use = marks_of(name)
        mesh.parts.append(Part(first, end - first, where.get(material, -1), plain, lod, use))
    if not lines.parts and len(lines.triangles):
        mesh.parts.append(Part(0, len(lines.triangles)))
    check_mesh(source.name, mesh)
    extra = {
        "texts": {"v": lines.v, "vt": lines.vt, "vn": lines.vn},
        "libraries": lines.libraries,
        "other": lines.other,
    }
    return Model(stem, "OBJ", [mesh], materials=materials, extra=extra)


def _whole_lines(text: str) -> Iterator[str]:
    """The lines, those that end in a backslash with the next."""
    held = ""
    for line in text.splitlines():
        if line.endswith("\\"):
            held += line[:-1] + " "
            continue
        yield held + line
        held = ""
    if held:
        yield held


def _read_line(line: str, lines: _Lines) -> None:
    words = line.split(None, 1)
    if not words or words[0].startswith("#"):
        return
    what, rest = words[0], words[1].strip() if len(words) > 1 else ""
    if what in ("v", "vt", "vn"):
        getattr(lines, what).append(rest)
    elif what == "f":
        corners = [_corner(word, lines) for word in rest.split()]
        if len(corners) < 3:
            raise ValueError("a face of fewer than three corners")
        lines.triangles += [(corners[0], corners[at], corners[at + 1]) for at in range(1, len(corners) - 1)]
        if len(lines.triangles) > MOST_MADE:
            check_counts(lines.name, {"triangles": (len(lines.triangles), MOST_MADE)})
    elif what in ("o", "g"):
        material = lines.parts[-1][1] if lines.parts else ""
        lines.parts.append((len(lines.triangles), material, rest))
    elif what == "usemtl":
        name = lines.parts[-1][2] if lines.parts else ""
        lines.parts.append((len(lines.triangles), rest, name))
    elif what == "mtllib":
        lines.libraries.append(rest)
    else:
        lines.other.append(line)


def _corner(word: str, lines: _Lines) -> int:
    """The vertex of a corner `position/uv/normal`, each counted from 1, or from the end by negative numbers."""
    parts = word.split("/")
    numbers = []
    for text, held in zip([*parts, "", ""], (lines.v, lines.vt, lines.vn), strict=False):
        number = int(text) if text else 0
        number = number - 1 if number > 0 else len(held) + number if number < 0 else -1
        if text and not 0 <= number < len(held):
            raise ValueError("a corner of a vertex that is not there")
        numbers.append(number)
    key = (numbers[0], numbers[1], numbers[2])
    if key[0] < 0:
        raise ValueError("a corner without a position")
    return lines.corners.setdefault(key, len(lines.corners))


def _numbers(texts: list[str], width: int) -> Array:
    rows = [(text.split() + ["0"] * width)[:width] for text in texts]
    return np.array(rows, np.float64).reshape(len(texts), width) if texts else np.zeros((0, width))


def _mesh(name: str, stem: str, lines: _Lines) -> Mesh:
    try:
        v, vt, vn = _numbers(lines.v, 3), _numbers(lines.vt, 2), _numbers(lines.vn, 3)
    except ValueError as error:
        raise FormatError(name, f"a number of a vertex is none: {error}", hint=FRESH) from error
    with np.errstate(over="ignore"):
        v, vt, vn = (one.astype(np.float32) for one in (v, vt, vn))
    if not lines.corners:  # points alone
        return Mesh(stem, v, np.zeros((0, 3), np.uint32))
    rows = np.array(list(lines.corners), np.int64)
    made = Mesh(stem, v[rows[:, 0]], np.array(lines.triangles, np.uint32).reshape(-1, 3))
    if len(vt) and bool((rows[:, 1] >= 0).any()):
        own = vt[np.maximum(rows[:, 1], 0)]
        own[rows[:, 1] < 0] = 0
        made.uvs = [_turned(own)]
    if len(vn) and bool((rows[:, 2] >= 0).all()):
        made.normals = _unit(vn)[rows[:, 2]]
    return made


def _unit(values: Array) -> Array:
    length = np.linalg.norm(values, axis=1, keepdims=True)
    return np.asarray(values / np.where(length < 1e-12, 1, length), np.float32)


def _turned(values: Array) -> Array:
    """UVs from the lower left corner, which OBJ has, or back."""
    made = values.copy()
    made[:, 1] = 1 - made[:, 1]
    return made


READ = {"v": lambda values: values, "vt": _turned, "vn": _unit}  # from the numbers of a file to those of a mesh


def _materials(source: Source, lines: _Lines) -> list[Material]:
    """The materials of the files that are named; of those that are not there, none."""
    from volvex.asset.model.gltf_file import safe_uri

    made: list[Material] = []
    for library in lines.libraries:
        name = safe_uri(library)
        found = source.beside(name) if name is not None and source.beside is not None else None
        if found is None:
            continue
        with found:
            text = found.read(0, min(found.size, 1 << 24)).decode("utf-8", "replace")
        for line in text.splitlines():
            words = line.split()
            if not words:
                continue
            if words[0] == "newmtl":
                made.append(Material(line.split(None, 1)[1].strip() if len(words) > 1 else ""))
            elif made:
                _read_material(words, made[-1])
    return made


def _read_material(words: list[str], material: Material) -> None:
    try:
        if words[0] == "Kd" and len(words) >= 4:
            material.colour = (float(words[1]), float(words[2]), float(words[3]), material.colour[3])
        elif words[0] == "d" and len(words) > 1:
            material.colour = (*material.colour[:3], float(words[-1]))
            material.alpha = "blend" if float(words[-1]) < 1 else material.alpha
        elif words[0] in MAPS and len(words) > 1:
            role = MAPS[words[0]]
            material.textures.setdefault(role, words[-1].replace("\\", "/"))
    except ValueError:
        return  # a number that is none says nothing of the material


# back


def write(model: Model, images: Mapping[str, str]) -> dict[str, bytes]:
    """The model and its materials: what OBJ has no words for (joints, animations, colours of vertices) is left out."""
    texts: dict[str, list[str]] = model.extra.get("texts", {})
    libraries: list[str] = model.extra.get("libraries", [])
    named = bool(model.materials)
    library = libraries[0] if libraries else f"{model.name}.mtl"
    lines = [f"mtllib {library}"] if named else []
    offsets, before = [1, 1, 1], []
    for mesh in model.meshes:
        columns = [(mesh.positions, "v"), (mesh.uvs[0], "vt") if mesh.uvs else None, (mesh.normals, "vn")]
        where: list[Array | None] = []
        for at, column in enumerate(columns):
            if column is None or column[0] is None:
                where.append(None)
                continue
            rows, said = _unique_lines(np.asarray(column[0]), texts.get(column[1], []), column[1])
            lines += [f"{column[1]} {text}" for text in said]
            where.append(rows + offsets[at])
            offsets[at] += len(said)
        before.append(where)
    for mesh, where in zip(model.meshes, before, strict=True):
        lines += _faces(model, mesh, where)
    made = {"obj": ("\n".join(lines) + "\n").encode("utf-8", "surrogateescape")}
    if named and not libraries:
        made["mtl"] = ("\n".join(_material_lines(model, images)) + "\n").encode("utf-8", "surrogateescape")
    return made


def _unique_lines(values: Array, texts: list[str], what: str) -> tuple[Array, list[str]]:
    """Rows as text, each once: by the text that the original has for the same numbers, or the shortest; and which row
    is which."""
    width = values.shape[1]
    unique, inverse = np.unique(values.astype(np.float32), axis=0, return_inverse=True)
    inverse = np.asarray(inverse).reshape(-1)
    first = np.full(len(unique), len(values))
    np.minimum.at(first, inverse, np.arange(len(values)))
    order = np.argsort(first, kind="stable")
    place = np.empty(len(order), np.int64)
    place[order] = np.arange(len(order))
    back = _turned(unique) if what == "vt" else unique
    known: dict[tuple[float, ...], str] = {}
    if texts:
        with np.errstate(over="ignore"):
            before = READ[what](_numbers(texts, width).astype(np.float32))
            for row, text in zip(before.tolist(), texts, strict=True):
                known.setdefault(tuple(row), text)
    said = [
        known.get(tuple(row)) or " ".join(np.format_float_positional(np.float32(one), trim="-") for one in plain)
        for row, plain in zip(unique[order].tolist(), back[order].tolist(), strict=True)
    ]
    return place[inverse], said


def _faces(model: Model, mesh: Mesh, where: list[Array | None]) -> list[str]:
    lines, last = [], ("", "")
    for part in mesh.parts or [Part(0, len(mesh.triangles))]:
        name = lod_name(part.name or mesh.name, part)
        material = model.materials[part.material].name if part.material >= 0 else ""
        if name != last[0]:
            lines.append(f"o {name}")
        if material and material != last[1]:
            lines.append(f"usemtl {material}")
        last = (name, material or last[1])
        own = mesh.triangles[part.start : part.start + part.count].reshape(-1)
        numbers = [["" for _ in own] if rows is None else [str(one) for one in rows[own].tolist()] for rows in where]
        corners = ["/".join(three).rstrip("/") for three in zip(*numbers, strict=True)]
        lines += [f"f {' '.join(corners[at : at + 3])}" for at in range(0, len(corners), 3)]
    return lines


def _material_lines(model: Model, images: Mapping[str, str]) -> list[str]:
    lines = []
    for own in model.materials:
        red, green, blue, alpha = own.colour
        lines += [f"newmtl {own.name}", f"Kd {red:g} {green:g} {blue:g}", f"d {alpha:g}"]
        lines += [f"{BACK[role]} {images.get(name, name)}" for role, name in own.textures.items() if role in BACK]
    return lines
