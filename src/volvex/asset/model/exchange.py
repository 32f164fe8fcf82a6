"""Models out to open forms and back: what an edit changed is put into the game's own, all else keeps its stored bits.

What is exported holds less than the original (hard points, unknown fields, numbers of joints), and programs put
vertices in another order, split them, or lose joints. So each edited vertex is matched with one of the original: by its
number where a file has as many, else by all that it has, else by where it is.
"""

from __future__ import annotations

import posixpath
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from volvex.asset.model.formats import form_of
from volvex.asset.model.gather import Gathered
from volvex.asset.model.gltf_write import in_order
from volvex.asset.model.join import joined, kept_pieces, pieces_of_edit
from volvex.asset.model.model import GLTF, Animation, Array, Material, Mesh, Model, Track
from volvex.asset.model.tracks import same_track
from volvex.errors import RefusedError

SLOTS = ("colour", "normal", "occlusion", "emission")  # of textures, which glTF has
CLOSE = 1e-6


@dataclass(frozen=True)
class Exported:
    """The files of a model in an open form by their extensions, and what they do not carry."""

    files: dict[str, bytes]
    notes: tuple[str, ...] = ()


def image_names(gathered: Gathered, inside: bool = True) -> dict[str, str]:
    """A file name for each texture that is there: its own, no two the same on any disk.

    inside   those inside of the model's file too
    """
    found: dict[str, str] = {}
    by_file: dict[int | str, str] = {}
    taken: set[str] = set()
    for name, place in gathered.textures.items():
        if place is None and not (inside and name in gathered.model.pictures):
            continue
        number = name if place is None else place
        if number not in by_file:
            stem = posixpath.splitext(posixpath.basename(name.replace("\\", "/")))[0] or "texture"
            plain, at = stem, 2
            while plain.casefold() in taken:
                plain, at = f"{stem}~{at}", at + 1
            taken.add(plain.casefold())
            by_file[number] = f"{plain}.png"
        found[name] = by_file[number]
    return found


def carries_pictures(extension: str) -> bool:
    """Whether files of an open form may have textures inside."""
    return bool({"glb", "gltf"} & set(form_of(extension).EXTENSIONS))


def exported(gathered: Gathered, extension: str, images: Mapping[str, str], stem: str = "") -> Exported:
    """A model in an open form.

    images  by the name of a texture, the file beside it that has it
    stem    of the file's name, by which others beside it are called (default: the model's name)
    """
    form, model = form_of(extension), gathered.model
    extra = {name: held for name, held in model.extra.items() if name != "libraries"}  # materials go with the copy
    model = replace(model, name=stem or model.name, extra=extra)
    notes = list(dict.fromkeys([*model.notes, *gathered.notes]))
    notes += [f"the texture {name} is not in the game" for name in gathered.missing]
    if not carries_pictures(extension):
        notes += [f"the texture {name} stays inside of {model.name}" for name in model.pictures if name not in images]
        lost = [
            what
            for what, there in (
                ("the skeleton", model.skeleton is not None),
                ("animations", bool(model.animations)),
                ("colours of vertices", any(mesh.colours for mesh in model.meshes)),
            )
            if there
        ]
        notes += [f"{', '.join(lost)} left out: glb has them"] if lost else []
    unknown = sum(track.joint < 0 for animation in model.animations for track in animation.tracks)
    if unknown:
        notes.append(f"{unknown} tracks of joints that the skeleton has not are left out")
    return Exported(form.write(model, images), tuple(notes))


# back


@dataclass
class TakenOver:
    """What an edit makes of the files of a model: those that change, each ready to be written; and notes for the
    user."""

    mesh: Model | None = None
    skeleton: Model | None = None
    animations: list[tuple[int, Model]] = field(
        default_factory=list
    )  # the file (-1: the mesh's own) and what it is to hold
    new_animations: list[Animation] = field(default_factory=list)
    materials: list[tuple[int, Model]] = field(default_factory=list)
    vertices: int = 0  # that are not as they were
    notes: list[str] = field(default_factory=list)


def taken_over(original: Gathered, edited: Model) -> TakenOver:
    """An edited file put into the original; RefusedError when it does not fit in, with what would."""
    if original.model.form == GLTF:
        raise RefusedError(
            f"{original.model.name} is glTF, which is changed whole: what other formats do not carry would be lost",
            "saving yours in the same format, .glb or .gltf, and `volvex swap`",
        )
    with np.errstate(all="ignore"):
        return _taken_over(original, edited)


def _taken_over(original: Gathered, edited: Model) -> TakenOver:
    made = TakenOver(notes=list(edited.notes))
    base = original.model
    if any(original.textures.get(name) is not None for name in edited.pictures):
        made.notes.append("textures inside of the file are not taken over: edit the pictures that lie apart from it")
    numbers = _joint_numbers(original, edited, made)
    materials, names = _materials(original, edited, made)
    if edited.meshes and base.meshes:
        made.mesh = _mesh(original, edited, (materials, names), numbers, made)
    elif base.meshes:
        made.notes.append("there is no mesh in it: the game's own stays")
    if edited.skeleton is not None and base.skeleton is not None:
        _skeleton(original, edited, made)
    _animations(original, edited, numbers, made)
    made.notes = list(dict.fromkeys(made.notes))
    return made


def _joint_numbers(original: Gathered, edited: Model, made: TakenOver) -> Array:
    """For each joint of the edited model its number in the game's skeleton, or -1."""
    if edited.skeleton is None:
        return np.zeros(0, np.int64)
    own = original.model.skeleton.names if original.model.skeleton is not None else []
    where = {name: number for number, name in enumerate(own)}
    return np.array([where.get(name, -1) for name in edited.skeleton.names], np.int64)


# materials


def _materials(original: Gathered, edited: Model, made: TakenOver) -> tuple[list[Material], dict[int, int]]:
    """The materials of the model with those that are new; for each edited one its number among them."""
    found, names = list(original.model.materials), dict[int, int]()
    where = {one.name.casefold(): number for number, one in enumerate(found)}
    changed: dict[int, Material] = {}
    images = {posixpath.splitext(name)[0].casefold(): own for own, name in image_names(original).items()}
    for number, one in enumerate(edited.materials):
        own = where.get(one.name.casefold())
        if own is None:
            own = where[one.name.casefold()] = len(found)
            found.append(Material(one.name))
        elif own < len(original.model.materials):
            new = _edited_material(found[own], one, images)
            if new != found[own]:
                changed[own] = new
        names[number] = own
    for file, rows in original.materials:
        held = original.parts[file].model
        own_rows = {at: changed[n] for n, at in rows.items() if n in changed}
        if own_rows:
            rest = [own_rows.get(at, one) for at, one in enumerate(held.materials)]
            made.materials.append((file, replace(held, materials=rest, extra={**held.extra, "original": held})))
    there = {n for _, rows in original.materials for n in rows}
    inside = {n for n in changed if n not in there}
    for n in inside:
        found[n] = changed[n]
    return found, names


def _edited_material(own: Material, edited: Material, images: Mapping[str, str]) -> Material:
    """The game's material with what glTF carries of it: textures that are named, colours, how it is seen through."""
    textures = dict(own.textures)
    for role in SLOTS:
        name = edited.textures.get(role)
        if name is None:
            continue
        plain = posixpath.splitext(posixpath.basename(name.replace("\\", "/")))[0].casefold()
        textures[role] = name if name in own.textures.values() else images.get(plain, name)
    colour = own.colour if np.allclose(own.colour, edited.colour, atol=1e-4) else edited.colour
    cutoff = edited.cutoff if edited.alpha == "mask" and abs(edited.cutoff - own.cutoff) > 1e-4 else own.cutoff
    return replace(own, textures=textures, colour=colour, alpha=edited.alpha, cutoff=cutoff, two_sided=edited.two_sided)


# meshes


def _mesh(
    original: Gathered,
    edited: Model,
    materials: tuple[list[Material], dict[int, int]],
    numbers: Array,
    made: TakenOver,
) -> Model | None:
    base = original.model.meshes[0]
    pieces = pieces_of_edit(base, edited, materials[1])
    kept = kept_pieces(base, edited, pieces, made.notes)
    order = sorted([*pieces, *kept], key=lambda one: (one.like if one.like >= 0 else 1 << 30, one.part.lod))
    mesh, like = joined(base, order, numbers)
    parts_like = [one.like for one in order]
    if base.joints is not None and any(piece.mesh.joints is None for piece in pieces):
        made.notes.append("joints and weights are those of the game's own: the file has none of some parts")
    rows = np.where(like >= 0, like, 0)
    same = (like >= 0) & (mesh.positions == base.positions[rows]).all(axis=1)
    made.vertices = int(np.count_nonzero(~same)) + _lost(base, like)
    used = {part.material for part in mesh.parts}
    held = len(original.model.materials)
    new = [n for n in range(held, len(materials[0])) if n in used]
    moved = {n: held + at for at, n in enumerate(new)}
    for part in mesh.parts:
        part.material = moved.get(part.material, part.material)
    order_of_materials = [*range(held), *(-1 for _ in new)]
    own = original.model
    first = own.extra.get("original", own)
    return replace(
        own,
        meshes=[mesh],
        materials=[*_own_materials(original, materials[0][:held]), *(materials[0][n] for n in new)],
        animations=list(first.animations),
        skeleton=first.skeleton,
        extra={
            **own.extra,
            "original": first,
            "like": like,
            "parts_like": parts_like,
            "materials_like": order_of_materials,
        },
    )


def _lost(base: Mesh, like: Array) -> int:
    """How many vertices of the original are there no more."""
    there = np.zeros(len(base.positions), bool)
    there[like[like >= 0]] = True
    return int(np.count_nonzero(~there))


def _own_materials(original: Gathered, found: list[Material]) -> list[Material]:
    """The materials as the mesh's own file has them: those of other files without what these say."""
    first = original.model.extra.get("original", original.model)
    apart = {number for _, rows in original.materials for number in rows}
    return [first.materials[n] if n in apart and n < len(first.materials) else one for n, one in enumerate(found)]


# skeleton and animations


def _skeleton(original: Gathered, edited: Model, made: TakenOver) -> None:
    """A pose that was changed, for the file that has the skeleton."""
    own, new = original.model.skeleton, edited.skeleton
    assert own is not None and new is not None
    where = {name: number for number, name in enumerate(new.names)}
    rows = [where.get(name, -1) for name in own.names]
    there = [n for n, row in enumerate(rows) if row >= 0]
    if not there:
        made.notes.append("none of its joints are those of the game's skeleton, which stays")
        return
    extra = [name for name in new.names if name not in own.names]
    if extra:
        made.notes.append(f"joints that the game's skeleton has not are left out: {', '.join(extra[:4])}")
    moves, turns, scales = own.translations.copy(), own.rotations.copy(), own.scales.copy()
    changed = False
    for number in there:
        row = rows[number]
        parent = int(own.parents[number])
        other = int(new.parents[row])
        if (own.names[parent] if parent >= 0 else "") != (new.names[other] if other >= 0 else ""):
            continue  # under another joint: its place in that says nothing
        for values, given in ((moves, new.translations), (turns, new.rotations), (scales, new.scales)):
            same = np.allclose(values[number], given[row], atol=1e-5)
            same |= values is turns and np.allclose(values[number], -given[row], atol=1e-5)
            if not same:
                values[number], changed = given[row], True
    if not changed:
        return
    moved = replace(own, translations=moves, rotations=turns, scales=scales)
    if original.skeleton is None:
        if made.mesh is not None:
            made.mesh.skeleton = moved
        return
    held = original.parts[original.skeleton].model
    made.skeleton = replace(held, skeleton=moved, extra={**held.extra, "original": held})


def _animations(original: Gathered, edited: Model, numbers: Array, made: TakenOver) -> None:
    own = original.model.animations
    if not edited.animations:
        if own:
            made.notes.append("there are no animations in it: the game's own stay")
        return
    turned = [_by_game_joints(animation, numbers, made) for animation in edited.animations]
    by_name = {animation.name: animation for animation in turned}
    files = [*original.animations]
    inside = len(own) - sum(len(rows) for _, rows in files)
    if inside:
        files.append((-1, list(range(inside))))
    known: set[str] = set()
    for file, rows in files:
        held = original.parts[file].model if file >= 0 else original.model.extra.get("original", original.model)
        new, changed = [], False
        for row, before in zip(rows, held.animations, strict=True):
            name = own[row].name
            known.add(name)
            after = by_name.get(name)
            if after is None:
                made.notes.append(f"the animation {name} is not in it, and stays as it was")
            same = after is None or _is_same(before, after)
            new.append(before if after is None or same else replace(after, name=before.name, rate=before.rate))
            changed |= not same
        if changed:
            made.animations.append((file, replace(held, animations=new, extra={**held.extra, "original": held})))
    made.new_animations = [animation for animation in turned if animation.name not in known and animation.tracks]


def _by_game_joints(animation: Animation, numbers: Array, made: TakenOver) -> Animation:
    tracks = []
    for track in animation.tracks:
        joint = int(numbers[track.joint]) if 0 <= track.joint < len(numbers) else -1
        if joint < 0:
            made.notes.append(f"tracks of {animation.name} of joints that the game has not are left out")
            continue
        tracks.append(Track(joint, track.path, track.times, track.values, track.stepped))
    return replace(animation, tracks=tracks)


def _is_same(before: Animation, after: Animation) -> bool:
    """Whether an animation is what was exported: the same tracks, in any order."""
    old = {(track.joint, track.path): in_order(track) for track in before.tracks if track.joint >= 0}
    new = {(track.joint, track.path): track for track in after.tracks}
    return old.keys() == new.keys() and all(same_track(old[key], new[key]) for key in old)
