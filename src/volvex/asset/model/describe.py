"""A model in words: how much of everything it has, its box, its animations, materials and textures."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from volvex.asset.model.gather import Gathered
from volvex.asset.model.model import COLLISION, DRAWN, Model

NAMED = 8  # of a row of names


def lines_of(found: Gathered, paths: Sequence[str]) -> Iterator[tuple[str, str]]:
    """What `show` prints: a word and a text a line. `paths`: of the files of the game, by their numbers."""
    model = found.model
    if model.meshes:
        yield "vertices", f"{model.vertices:,}, {_columns(model)}"
        yield "triangles", _triangles(model)
        for text in _parts(model):
            yield "part", text
        if (box := model.box()) is not None:
            low, high = box
            size = " x ".join(f"{one:.3g}" for one in (high - low).tolist())
            yield "box", f"{size} m, from {' '.join(f'{one:.3g}' for one in low.tolist())}"
    morphs = [morph.name for mesh in model.meshes for morph in mesh.morphs]
    if morphs:
        yield "shapes", _some(morphs)
    if model.skeleton is not None:
        where = f", of {paths[found.skeleton]}" if found.skeleton is not None else ""
        yield "joints", f"{len(model.skeleton)}{where}: {_some(model.skeleton.names)}"
    files = {row: paths[file] for file, rows in found.animations for row in rows}
    for number, animation in enumerate(model.animations[:NAMED]):
        where = f", of {files[number]}" if number in files else ""
        keys = max((len(track.times) for track in animation.tracks), default=0)
        yield (
            "animation",
            f"{animation.name}: {animation.duration:.2f} s, {_count(len(animation.tracks), 'track')} of up to "
            f"{_count(keys, 'key')}{where}",
        )
    if len(model.animations) > NAMED:
        yield "", f"and {len(model.animations) - NAMED} more"
    for material in model.materials[: NAMED * 2]:
        textures = [f"{role} {_texture(name, found, paths)}" for role, name in material.textures.items()]
        alpha = "" if material.alpha == "opaque" else f", {material.alpha}"
        yield "material", f"{material.name}{alpha}" + (f": {', '.join(textures)}" if textures else "")
    if len(model.materials) > NAMED * 2:
        yield "", f"and {len(model.materials) - NAMED * 2} more"


def _texture(name: str, found: Gathered, paths: Sequence[str]) -> str:
    number = found.textures.get(name)
    if number is not None:
        return paths[number]
    return f"{name} ({'inside' if name in found.model.pictures else 'not found'})"


def _columns(model: Model) -> str:
    words = []
    for mesh in model.meshes[:1]:
        words = [
            *(["normals"] if mesh.normals is not None else []),
            *(["tangents"] if mesh.tangents is not None else []),
            *([_count(len(mesh.uvs), "UV set")] if mesh.uvs else []),
            *(["colours"] if mesh.colours else []),
            *(["weights"] if mesh.weights is not None else []),
        ]
    return ", ".join(words) or "positions alone"


def _triangles(model: Model) -> str:
    levels = [f"{model.triangles(lod):,}" for lod in range(model.lods)]
    parts = [levels[0] if levels else "0"]
    parts += [f"level {number}: {text}" for number, text in enumerate(levels[1:], 1)]
    if solid := model.triangles(use=COLLISION):
        parts.append(f"collision: {solid:,}")
    return ", ".join(parts)


def _parts(model: Model) -> Iterator[str]:
    found = [part for mesh in model.meshes for part in mesh.parts if part.use == DRAWN and part.lod == 0]
    for part in found[:NAMED]:
        material = model.materials[part.material].name if 0 <= part.material < len(model.materials) else "no material"
        name = f"{part.name}: " if part.name else ""
        yield f"{name}{_count(part.count, 'triangle')}, {material}"
    if len(found) > NAMED:
        yield f"and {len(found) - NAMED} more"


def _some(names: Sequence[str]) -> str:
    rest = f" and {len(names) - NAMED} more" if len(names) > NAMED else ""
    return f"{', '.join(names[:NAMED])}{rest}"


def _count(number: int, what: str) -> str:
    return f"{number:,} {what}{'' if number == 1 else 's'}"


def size_text(model: Model) -> str:
    """On a sheet: `816 triangles, 2 levels`; of what has no mesh its joints."""
    if not model.meshes:
        return _count(len(model.skeleton), "joint") if model.skeleton is not None else ""
    levels = f", {model.lods} levels" if model.lods > 1 else ""
    return _count(model.triangles(0) if model.lods else model.triangles(), "triangle") + levels


def short_text(model: Model) -> str:
    """In a list: `816 triangles, 2 levels, 5 joints`; of what has no mesh what it has."""
    words = [size_text(model)] if model.meshes else []
    if model.skeleton is not None:
        words.append(_count(len(model.skeleton), "joint"))
    if model.animations:
        tracks = sum(len(animation.tracks) for animation in model.animations)
        longest = max(animation.duration for animation in model.animations)
        words.append(f"{longest:.2f} s, {_count(tracks, 'track')}")
    if model.materials:
        words.append(_count(len(model.materials), "material"))
    return ", ".join(words)
