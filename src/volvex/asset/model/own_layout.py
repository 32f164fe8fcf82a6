"""Models in formats of games' own, read and written by a layout of the kind mesh, skeleton, animation or material.

What is written is the original with what differs put into it: stored numbers of what was not changed stay, bit for bit,
and so does all that no field means.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from volvex.asset.model import layout_mesh
from volvex.asset.model.layout_joints import put_skeleton, skeleton_of
from volvex.asset.model.layout_materials import materials_of, put_materials
from volvex.asset.model.layout_mesh import Pieces, StoredParts, apart, each_corner, pieces_of
from volvex.asset.model.layout_texts import numbers_of, put_ints, put_texts, take_rows, texts_of
from volvex.asset.model.layout_tracks import animations_of
from volvex.asset.model.layout_tracks_back import put_animations
from volvex.asset.model.layout_vertices import (
    Coding,
    Ranges,
    as_exported,
    decoded_weights,
    merge_signs,
    put_ranges,
    put_weights,
    ranges_of,
    vertex_codings,
    weights_of,
    wider_ranges,
)
from volvex.asset.model.model import (
    MOST_PARTS,
    MOST_VERTICES,
    Array,
    Material,
    Mesh,
    Model,
    Morph,
    Part,
    Skeleton,
    check_counts,
    check_mesh,
)
from volvex.asset.model.space import Space
from volvex.asset.model.storage import fact_in, rounded_floats
from volvex.asset.model.topology import normals_of, tangents_of, used_rows
from volvex.errors import FRESH, FormatError, RefusedError
from volvex.layout.columns import AllColumns
from volvex.layout.kinds._model import spec_of
from volvex.layout.model import Field, IntegerType, Layout
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.read.open import read as read_layout
from volvex.layout.write.checks import require_writable
from volvex.layout.write.plan import Edit
from volvex.layout.write.planner import plan
from volvex.source import Source

MOST_MATERIALS = 4096  # a larger number is that of none


class LayoutModel:
    """The form of files of one layout: what an open form's module is for its files."""

    NAMES: tuple[str, ...] = ()
    EXTENSIONS: tuple[str, ...] = ()

    def __init__(self, layout: Layout) -> None:
        self.layout = layout
        self.spec = spec_of(layout)
        self.space = Space(
            str(self.spec["up"]),
            str(self.spec["handed"]),
            int(self.spec["units"]),
            self.spec["v"] == "up",
            str(self.spec["winding"]),
        )

    def read(self, source: Source, skeleton: Skeleton | None = None) -> Model:
        """The model in a file; FormatError when it is damaged.

        skeleton   of another file: animations find their joints in it by name or hash
        """
        reading = read_layout(self.layout, source)
        stem = source.name.rpartition("/")[2].rpartition(".")[0] or source.name.rpartition("/")[2]
        own = skeleton_of(reading, self.space, self.spec)
        joints = (own or skeleton).names if (own or skeleton) is not None else []  # type: ignore[union-attr]
        notes: list[str] = []
        names = texts_of(reading, "model name")
        made = Model(
            names[0] if names and names[0] else stem,
            reading.original.title,
            [],
            own,
            animations_of(reading, self.space, joints, stem),
            materials_of(reading),
            (texts_of(reading, "skeleton file") or [""])[0],
            extra={"reading": reading, "joints": joints},
        )
        if fact_in(reading, "position") is not None:
            made.meshes = [self._mesh(reading, made)]
        lost = sum(track.joint < 0 for animation in made.animations for track in animation.tracks)
        if lost and joints:
            notes.append(f"{lost} tracks are of joints that the skeleton has not")
        made.notes = tuple(notes)
        return made

    def _mesh(self, reading: Reading, model: Model) -> Mesh:
        codings = vertex_codings(reading, self.space, self.spec["positions"] == "share")
        positions = codings["position"].read()
        check_counts(reading.source.name, {"vertices": (len(positions), MOST_VERTICES)})
        strips = self.spec["faces"] == "strip"
        triangles, parts, stored = layout_mesh.triangles_of(reading, strips, self.space, len(positions))
        check_counts(reading.source.name, {"parts": (len(parts), MOST_PARTS)})
        mesh = Mesh(model.name, positions, triangles, parts)
        for name, coding in codings.items():
            if name in ("normal", "tangent"):
                setattr(mesh, f"{name}s", coding.read())
            elif name.startswith("uv "):
                mesh.uvs.append(coding.read())
            elif name.startswith("colour "):
                mesh.colours.append(coding.read())
        merge_signs(mesh, codings)
        self._add_weights(reading, mesh, stored)
        _name_materials(model, stored, parts)
        mesh.morphs = self._morphs(reading, len(positions))
        check_mesh(reading.source.name, mesh)
        return mesh

    def _add_weights(self, reading: Reading, mesh: Mesh, stored: StoredParts) -> None:
        joints, weights = weights_of(reading)
        if joints is None:
            return
        numbers = np.asarray(joints.raw(), np.int64)
        numbers = np.where(numbers < 0, 0, numbers)
        numbers = layout_mesh.joints_from_bones(reading, mesh, stored, numbers)
        mesh.joints, mesh.weights = as_exported(numbers, decoded_weights(joints, weights))

    def _morphs(self, reading: Reading, vertices: int) -> list[Morph]:
        """The shapes of a mesh: rows of shifts, of all vertices or of those that are named."""
        names, shifts = texts_of(reading, "morph name"), fact_in(reading, "shift")
        if names is None or shifts is None:
            return []
        which = fact_in(reading, "shifted vertex")
        values = self.space.points(np.asarray(shifts.raw(), np.float64)).astype(np.float32)
        rows = which.raw()[:, 0].astype(np.int64) if which is not None else None
        made = []
        for number, (start, count) in enumerate(_shift_spans(reading, len(names), vertices)):
            positions = np.zeros((vertices, 3), np.float32)
            own = rows[start : start + count] if rows is not None else np.arange(count)
            good = (own >= 0) & (own < vertices)
            held = values[start : start + count]
            positions[own[: len(held)][good[: len(held)]]] = held[good[: len(held)]]
            made.append(Morph(names[number] or f"shape_{number}", positions))
        return made

    # back

    def write(self, model: Model) -> bytes:
        """The file with what differs of a model put into it; RefusedError for what its format cannot hold.

        The model's `extra` says what its vertices and parts are like (`like`, `parts_like`, `materials_like`), by
        numbers of the original's; without these they are taken in their order.
        """
        reading = model.extra.get("reading")
        if not isinstance(reading, Reading) or reading.original.title != self.layout.title:
            raise RefusedError(
                f"a file of {self.layout.title} is made from one that there is", "`volvex swap` in its place"
            )
        require_writable(self.layout)
        old = model.extra["original"]
        assert isinstance(old, Model)
        columns: AllColumns = {name: dict(block.columns) for name, block in reading.blocks.items()}
        if old.meshes and model.meshes:
            self._put_mesh(columns, reading, old, model)
        if old.skeleton is not None and model.skeleton is not None:
            put_skeleton(columns, reading, old.skeleton, model.skeleton, self.space, self.spec)
        joints = list(model.extra.get("joints", ()))
        if old.animations and model.animations:
            put_animations(columns, reading, old.animations, model.animations, self.space, joints)
        if old.materials and reading.attribute("material name") is not None:
            like = model.extra.get("materials_like") or list(range(len(model.materials)))
            put_materials(columns, reading, old.materials, model.materials, like)
        return b"".join(plan(reading, Edit(), columns=columns).chunks())

    def _put_mesh(self, columns: AllColumns, reading: Reading, old: Model, model: Model) -> None:
        before, mesh = old.meshes[0], model.meshes[0]
        like = model.extra.get("like")
        like = np.arange(len(mesh.positions)) if like is None else np.asarray(like)
        parts_like = model.extra.get("parts_like") or list(range(len(mesh.parts)))
        if _is_same(before, mesh, like) and parts_like == list(range(len(before.parts))):
            self._put_part_materials(columns, reading, model, None)
            return
        mesh = replace(mesh, uvs=list(mesh.uvs), colours=list(mesh.colours))  # what it lacks is added below
        palettes = reading.attribute("first bone") is not None and fact_in(reading, "bone") is not None
        pieces = pieces_of(mesh, parts_like, int(self.spec["bones"]), palettes)
        ranges = None
        if reading.attribute("first vertex") is not None or palettes:
            mesh, like, ranges = apart(mesh, pieces, like, together=True)
        elif fact_in(reading, "index") is None:
            mesh, like = each_corner(mesh, pieces, like)
        layout_mesh.take_parts(columns, reading, pieces)
        self._put_vertices(columns, reading, before, mesh, like, pieces)
        strips = self.spec["faces"] == "strip"
        layout_mesh.put_triangles(columns, reading, pieces, ranges, strips, self.space)
        self._put_part_materials(columns, reading, model, pieces)
        coding = vertex_codings(reading, self.space, self.spec["positions"] == "share")["position"]
        points = self._plain_points(columns, reading, coding)
        changed = _changed_parts(before, mesh, like, pieces)
        box_is_range = ranges_of(reading, coding.fact, self.spec["positions"] == "share").where == "box"
        layout_mesh.put_bounds(columns, reading, points, pieces, changed, "box" if box_is_range else "")

    def _plain_points(self, columns: AllColumns, reading: Reading, coding: Coding) -> Array:
        raw = coding.fact.raw(columns[coding.fact.block.block.name])
        scale, offset = (fact_in(reading, what) for what in ("position scale", "position offset"))
        if not coding.fact.kind.largest or (scale is None and offset is None):
            return coding.plain(raw)
        share = coding.fact.kind.largest if self.spec["positions"] == "share" else 1
        one = np.ones(3) if scale is None else np.asarray(scale.raw(columns[scale.block.block.name])[0], np.float64)
        two = np.zeros(3) if offset is None else np.asarray(offset.raw(columns[offset.block.block.name])[0], np.float64)
        return np.asarray(raw, np.float64) * (np.broadcast_to(one, (3,)) / share) + np.broadcast_to(two, (3,))

    def _put_vertices(
        self, columns: AllColumns, reading: Reading, before: Mesh, mesh: Mesh, like: Array, pieces: Pieces
    ) -> None:
        share = self.spec["positions"] == "share"
        codings = vertex_codings(reading, self.space, share)
        for coding in codings.values():
            coding.read()
        rows = np.where(like >= 0, like, 0)
        homes = {coding.fact.block.block.name for coding in codings.values()}
        joints, weights = weights_of(reading)
        homes |= {fact.block.block.name for fact in (joints, weights) if fact is not None}
        taken: set[str] = set()
        for home in sorted(homes):
            block = reading.layout.block(home)
            root = reading.layout.root(block).name if block is not None else home
            if root not in taken:  # the others of its row follow
                taken.add(root)
                take_rows(columns, reading, home, rows)
        _complete(mesh, before, codings, like)
        position = codings["position"]
        ranges = ranges_of(reading, position.fact, share)
        wider = wider_ranges(position.fact, ranges, self.space, mesh.positions, share)
        rescaled = wider is not None
        if wider is not None:
            self._widen(columns, reading, position, wider)
            codings["position"] = _with_ranges(reading, columns, self.space, share)
        for name, coding in codings.items():
            values = _values(mesh, name)
            if values is not None:
                own = columns[coding.fact.block.block.name]
                coding.written(own, values, like, rescaled and name == "position")
        if joints is not None and mesh.joints is not None and mesh.weights is not None:
            self._put_joints(columns, reading, before, mesh, like, pieces)
        self._put_morphs(columns, reading, before, mesh)

    def _widen(self, columns: AllColumns, reading: Reading, position: Coding, wider: Ranges) -> None:
        slot = position.fact.kind
        if wider.where == "range":
            put_ranges(columns, reading, wider, slot.largest, self.spec["positions"] == "share")
            return
        low, high = fact_in(reading, "box low"), fact_in(reading, "box high")
        assert low is not None and high is not None
        steps = slot.largest * (2 if slot.signed else 1)
        start = wider.offset - wider.scale * slot.largest if slot.signed else wider.offset
        for fact, values in ((low, start), (high, start + wider.scale * steps)):
            fact.put(columns[fact.block.block.name], rounded_floats(values[None], fact.kind))

    def _put_joints(
        self, columns: AllColumns, reading: Reading, before: Mesh, mesh: Mesh, like: Array, pieces: Pieces
    ) -> None:
        joints, weights = weights_of(reading)
        assert joints is not None and mesh.joints is not None and mesh.weights is not None
        assert before.joints is not None and before.weights is not None
        numbers = mesh.joints.astype(np.int64)
        own = layout_mesh.put_bones(columns, reading, pieces, numbers)
        width = min(mesh.joints.shape[1], before.joints.shape[1])
        rows = np.flatnonzero(like >= 0)
        same = np.zeros(len(like), bool)
        was = like[rows]
        same[rows] = (mesh.joints[rows, :width] == before.joints[was, :width]).all(axis=1) & np.isclose(
            mesh.weights[rows, :width], before.weights[was, :width], rtol=0, atol=1e-5
        ).all(axis=1)
        if mesh.joints.shape[1] > width:
            same &= ~(mesh.weights[:, width:] > 0).any(axis=1)
        if (
            reading.attribute("first bone") is not None
        ):  # the same number only means the same where its part's bones are
            old_raw = np.asarray(joints.raw(), np.int64)
            held = np.where(mesh.weights[rows, : old_raw.shape[1]] > 0, own[rows][:, : old_raw.shape[1]], 0)
            stored = np.where(mesh.weights[rows, : old_raw.shape[1]] > 0, old_raw[was], 0)
            same[rows] &= (held == stored[:, : held.shape[1]]).all(axis=1)
        top = joints.kind.largest
        if len(own) and int(own.max()) > top:
            raise RefusedError(f"joint {int(own.max())}, and vertices store numbers up to {top}", "fewer joints")
        put_weights(columns, joints, weights, (own, mesh.weights.astype(np.float64)), np.where(same, like, -1))

    def _put_morphs(self, columns: AllColumns, reading: Reading, before: Mesh, mesh: Mesh) -> None:
        """Shapes by their names: those that the model has not any more, or that are new, cannot be."""
        shifts = fact_in(reading, "shift")
        if shifts is None or not before.morphs:
            if mesh.morphs and not before.morphs:
                raise RefusedError("the game's own model has no morph targets", "leaving them out")
            return
        by_name = {morph.name: morph for morph in mesh.morphs}
        dense = fact_in(reading, "shifted vertex") is None
        home = shifts.block.block.name
        raws, rows, starts, counts, at = [], [], [], [], 0
        which = list[Array]()
        spans = _shift_spans(reading, len(before.morphs), len(before.positions))
        for number, old in enumerate(before.morphs):
            new = by_name.get(old.name, old)
            if len(new.positions) != len(mesh.positions):
                raise RefusedError(f"the shape {old.name} is of other vertices than the mesh", "a shape of all of them")
            own = np.arange(len(mesh.positions)) if dense else np.flatnonzero((new.positions != 0).any(axis=1))
            made = rounded_floats(self.space.points(np.asarray(new.positions[own], np.float64), True), shifts.kind)
            start = spans[number][0]
            raws.append(made)
            rows.append(np.minimum(start + np.arange(len(own)), max(0, len(shifts.raw()) - 1)))
            which.append(own)
            starts.append(at)
            counts.append(len(own))
            at += len(own)
        picked = np.concatenate(rows)
        take_rows(columns, reading, home, picked)
        shifts.put(columns[home], np.concatenate(raws))
        named = fact_in(reading, "shifted vertex")
        if named is not None:
            named.put(columns[named.block.block.name], np.concatenate(which)[:, None])
        put_ints(columns, reading, "first shift", starts)
        put_ints(columns, reading, "shift count", counts)

    def _put_part_materials(self, columns: AllColumns, reading: Reading, model: Model, pieces: Pieces | None) -> None:
        """The material of each part, by its number or its name."""
        found = reading.attribute("part material")
        if found is None or not model.meshes:
            return
        parts = pieces.parts if pieces is not None else model.meshes[0].parts
        names = [model.materials[part.material].name if part.material >= 0 else "" for part in parts]
        before = texts_of(reading, "part material")
        if before is not None:
            if before != names:
                put_texts(columns, reading, "part material", names)
        else:
            own = numbers_of(reading, "part material")
            like = pieces.like if pieces is not None else list(range(len(parts)))
            numbers = [
                int(own[at])
                if part.material < 0 and own is not None and 0 <= at < len(own)
                else _stored_material(found, part.material)
                for part, at in zip(parts, like, strict=True)
            ]
            put_ints(columns, reading, "part material", numbers)


def _stored_material(found: tuple[BlockRead, Field], number: int) -> int:
    """The number that a part stores; the largest that there is for none."""
    low, high = found[1].type.limits if isinstance(found[1].type, IntegerType) else (0, 0)
    return number if number >= 0 or low < 0 else high


def _name_materials(model: Model, stored: StoredParts, parts: list[Part]) -> None:
    """Materials that parts name, and those of numbers that no record has."""
    rows = bool(model.materials)
    where = {material.name: number for number, material in enumerate(model.materials)}
    for part, said in zip(parts, stored.material, strict=True):
        if isinstance(said, str):
            if said and said not in where:
                where[said] = len(model.materials)
                model.materials.append(Material(said))
            part.material = where.get(said, -1)
        elif 0 <= said < (len(model.materials) if rows else MOST_MATERIALS):
            model.materials += [Material(f"material_{n}") for n in range(len(model.materials), said + 1)]
            part.material = said
        else:
            part.material = -1


def _shift_spans(reading: Reading, count: int, vertices: int) -> list[tuple[int, int]]:
    first, counts = numbers_of(reading, "first shift"), numbers_of(reading, "shift count")
    held = fact_in(reading, "shift")
    total = len(held.raw()) if held is not None else 0
    if counts is None:
        counts = np.full(count, vertices)
    if first is None:
        first = np.cumsum(counts) - counts
    wrong = (first < 0) | (counts < 0) | (first + counts > total)
    if bool(wrong.any()):
        row = int(np.argmax(wrong))
        raise FormatError(
            reading.source.name,
            f"shape {row} has shifts up to {int(first[row] + counts[row]):,} of {total:,}",
            hint=FRESH,
        )
    return list(zip(first.tolist(), counts.tolist(), strict=True))


def _with_ranges(reading: Reading, columns: AllColumns, space: Space, share: bool) -> Coding:
    """The coding of positions by ranges that were just put into columns."""
    blocks = {name: replace(block, columns=columns[name]) for name, block in reading.blocks.items()}
    again = replace(reading, blocks=blocks)
    own = vertex_codings(again, space, share)["position"]
    return Coding(replace(own.fact, block=reading.blocks[own.fact.block.block.name]), own.decode, own.encode, own.plain)


def _values(mesh: Mesh, name: str) -> Array | None:
    if name == "tangent sign":
        return None if mesh.tangents is None else mesh.tangents[:, 3:]
    kind, _, number = name.partition(" ")
    if kind in ("uv", "colour"):
        held = mesh.uvs if kind == "uv" else mesh.colours
        return held[int(number) - 1] if int(number) <= len(held) else None
    return {"position": mesh.positions, "normal": mesh.normals, "tangent": mesh.tangents}[name]


def _complete(mesh: Mesh, before: Mesh, codings: dict[str, Coding], like: Array) -> None:
    """Columns that the game's own has and the model has not: from the vertices that its own are like, or made."""
    rows = np.where(like >= 0, like, 0)
    if "normal" in codings and mesh.normals is None:
        mesh.normals = normals_of(mesh.positions, mesh.triangles)
    for kind, held, own in (("uv", mesh.uvs, before.uvs), ("colour", mesh.colours, before.colours)):
        wanted = sum(name.startswith(f"{kind} ") for name in codings)
        held += [own[at][rows] for at in range(len(held), wanted)]
    if before.joints is not None and mesh.joints is None and before.weights is not None:
        mesh.joints, mesh.weights = before.joints[rows], before.weights[rows]
    if "tangent" in codings and before.tangents is not None:
        _complete_tangents(mesh, before, like)


def _complete_tangents(mesh: Mesh, before: Mesh, like: Array) -> None:
    """Make tangents again for vertices of changed triangles; those of others stay."""
    assert before.tangents is not None
    if mesh.tangents is not None and len(mesh.tangents) == len(mesh.positions) and not _stale(mesh, before, like):
        return
    made = tangents_of(mesh) if mesh.normals is not None and mesh.uvs else before.tangents[np.where(like >= 0, like, 0)]
    steady = _steady(mesh, before, like)
    mesh.tangents = np.where(steady[:, None], before.tangents[np.where(like >= 0, like, 0)], made)


def _stale(mesh: Mesh, before: Mesh, like: Array) -> bool:
    """Whether tangents are still those of the original though what they are made of changed."""
    assert mesh.tangents is not None and before.tangents is not None
    rows = np.where(like >= 0, like, 0)
    same = (like >= 0) & (mesh.tangents == before.tangents[rows]).all(axis=1)
    return bool((same & ~_steady(mesh, before, like)).any())


def _steady(mesh: Mesh, before: Mesh, like: Array) -> Array:
    """Vertices of which nothing changed, nor of those with which they make triangles."""
    rows = np.where(like >= 0, like, 0)
    same = (like >= 0) & np.isclose(mesh.positions, before.positions[rows], rtol=0, atol=1e-6).all(axis=1)
    if mesh.normals is not None and before.normals is not None:
        same &= np.isclose(mesh.normals, before.normals[rows], rtol=0, atol=1e-4).all(axis=1)
    if mesh.uvs and before.uvs:
        same &= np.isclose(mesh.uvs[0], before.uvs[0][rows], rtol=0, atol=1e-6).all(axis=1)
    steady = same.copy()
    if len(mesh.triangles):
        broken = ~same[mesh.triangles].all(axis=1)
        steady[mesh.triangles[broken].reshape(-1)] = False
    return steady


def _is_same(before: Mesh, mesh: Mesh, like: Array) -> bool:
    """Whether a mesh is what it was, so that nothing of it needs to be written."""
    if mesh is before:
        return True
    if len(like) != len(before.positions) or not bool((like == np.arange(len(like))).all()):
        return False
    if mesh.triangles.shape != before.triangles.shape or not bool((mesh.triangles == before.triangles).all()):
        return False
    one, two = before.columns(), mesh.columns()
    same = all(
        name in two and two[name].shape == column.shape and bool((two[name] == column).all())
        for name, column in one.items()
    )
    shapes = len(before.morphs) == len(mesh.morphs) and all(
        bool((a.positions == b.positions).all()) for a, b in zip(before.morphs, mesh.morphs, strict=True)
    )
    return same and shapes and [(p.start, p.count) for p in before.parts] == [(p.start, p.count) for p in mesh.parts]


def _changed_parts(before: Mesh, mesh: Mesh, like: Array, pieces: Pieces) -> list[bool]:
    """Which parts have vertices that are not where those of the original are, or others than these."""
    made = []
    for own, number in zip(pieces.triangles, pieces.like, strict=True):
        if not 0 <= number < len(before.parts):
            made.append(True)
            continue
        part = before.parts[number]
        was = used_rows(before.triangles[part.start : part.start + part.count], len(before.positions))
        rows = used_rows(own, len(mesh.positions))
        same = len(was) == len(rows) and bool((np.sort(like[rows]) == was).all())
        made.append(not (same and bool((mesh.positions[rows] == before.positions[like[rows]]).all())))
    return made
