"""The triangles and parts of a game's own file: lists or strips, parts by material, bones of each part; and back."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from volvex.asset.model.layout_texts import (
    numbers_of,
    put_ints,
    put_texts,
    put_words,
    take_rows,
    texts_of,
    words_of,
)
from volvex.asset.model.model import COLLISION, DRAWN, MOST_TRIANGLES, Array, Mesh, Part, check_counts
from volvex.asset.model.space import Space
from volvex.asset.model.storage import fact_in
from volvex.asset.model.topology import from_strip, sphere_around, split_by_bones, to_strip, used_bones, used_rows
from volvex.errors import FRESH, FormatError, RefusedError
from volvex.layout.columns import AllColumns
from volvex.layout.read.blocks import Reading

NO_MATERIAL = -1


@dataclass(frozen=True)
class StoredParts:
    """What the records of parts say, by record; the whole as one part where a file has none."""

    first: list[int]
    count: list[int]
    base: list[int]
    vertices: list[tuple[int, int]] | None  # of each part, where records give that
    bones: list[tuple[int, int]] | None
    material: list[int | str]
    names: list[str]
    lods: list[int]
    uses: list[str]

    def __len__(self) -> int:
        return len(self.first)


def stored_indices(reading: Reading, vertices: int) -> Array:
    """All numbers of vertices of a file, as they are stored; one for each vertex where it has none."""
    fact = fact_in(reading, "index")
    return np.arange(vertices, dtype=np.int64) if fact is None else fact.raw()[:, 0].astype(np.int64)


def restart_of(reading: Reading) -> int:
    """The number that begins another strip."""
    fact = fact_in(reading, "index")
    return -1 if fact is None else fact.kind.largest


def stored_parts(reading: Reading, indices: int, vertices: int) -> StoredParts:
    """The parts of a file, each checked to lie within what there is."""
    first, count = numbers_of(reading, "first index"), numbers_of(reading, "index count")
    given = first if first is not None else count
    rows = len(given) if given is not None else 1
    if first is None and count is None:
        starts, counts = np.zeros(1, np.int64), np.array([indices])
    elif first is None:
        assert count is not None
        counts, starts = count, np.cumsum(count) - count
    elif count is None:
        starts, counts = first, np.diff(np.append(first, indices))
    else:
        starts, counts = first, count
    wrong = np.flatnonzero((starts < 0) | (counts < 0) | (starts + counts > indices))
    if len(wrong):
        row = int(wrong[0])
        raise FormatError(
            reading.source.name,
            f"part {row} has indices {int(starts[row]):,} to {int(starts[row] + counts[row]):,}, there are {indices:,}",
            hint=FRESH,
            asked="another layout",
        )
    base, held = numbers_of(reading, "first vertex", 0, rows), numbers_of(reading, "vertex count")
    assert base is not None
    ranges = list(zip(base.tolist(), held.tolist(), strict=True)) if held is not None else None
    if bool((base < 0).any() or (base > vertices).any()):
        raise FormatError(reading.source.name, f"a part begins at vertex {int(base.max()):,}, there are {vertices:,}")
    bones = _bones(reading)
    texts, numbers = texts_of(reading, "part material"), None
    if texts is None:
        numbers = numbers_of(reading, "part material", NO_MATERIAL, rows)
    lods = numbers_of(reading, "part lod", 0, rows)
    assert lods is not None
    if bool((lods < 0).any() or (lods > 255).any()):
        raise FormatError(reading.source.name, f"a part of level of detail {int(lods.max())}", hint=FRESH)
    return StoredParts(
        starts.tolist(),
        counts.tolist(),
        base.tolist(),
        ranges,
        bones,
        list(texts) if texts is not None else list(numbers.tolist()) if numbers is not None else [],
        texts_of(reading, "part name") or [""] * rows,
        lods.tolist(),
        words_of(reading, "part use") or [DRAWN] * rows,
    )


def _bones(reading: Reading) -> list[tuple[int, int]] | None:
    first, count = numbers_of(reading, "first bone"), numbers_of(reading, "bone count")
    table = fact_in(reading, "bone")
    if first is None or count is None or table is None:
        return None
    held = len(table.raw())
    if bool(((first < 0) | (count < 0) | (first + count > held)).any()):
        raise FormatError(reading.source.name, f"a part has bones beyond the {held} that there are", hint=FRESH)
    return list(zip(first.tolist(), count.tolist(), strict=True))


def triangles_of(reading: Reading, strips: bool, space: Space, vertices: int) -> tuple[Array, list[Part], StoredParts]:
    """The triangles of a file in one row, the parts of it, and what its records say."""
    indices = stored_indices(reading, vertices)
    check_counts(reading.source.name, {"indices": (len(indices), MOST_TRIANGLES * 3)})
    stored, found, parts, at = stored_parts(reading, len(indices), vertices), [], list[Part](), 0
    for number in range(len(stored)):
        own = indices[stored.first[number] : stored.first[number] + stored.count[number]]
        made = plain_triangles(own, strips, restart_of(reading)) + stored.base[number]
        if len(made) and (int(made.max()) >= vertices or int(made.min()) < 0):
            worst = int(made.max())
            raise FormatError(
                reading.source.name,
                f"part {number} has an index {worst:,}, there are {vertices:,} vertices",
                hint=FRESH,
                asked="another layout",
            )
        if space.flips:
            made = made[:, [0, 2, 1]]
        found.append(made)
        material = stored.material[number]
        parts.append(
            Part(
                at,
                len(made),
                material if isinstance(material, int) else NO_MATERIAL,
                stored.names[number],
                stored.lods[number],
                stored.uses[number],
            )
        )
        at += len(made)
    whole = np.concatenate(found) if found else np.zeros((0, 3), np.int64)
    return whole.astype(np.uint32), parts, stored


def plain_triangles(indices: Array, strips: bool, restart: int) -> Array:
    """Stored indices as triangles; what is left over of a list is no triangle."""
    if strips:
        return from_strip(indices, restart)
    return indices[: len(indices) // 3 * 3].reshape(-1, 3)


def joints_from_bones(reading: Reading, mesh: Mesh, stored: StoredParts, joints: Array) -> Array:
    """The numbers of joints in the skeleton, where vertices have numbers of their part's bones."""
    table = fact_in(reading, "bone")
    if table is None or stored.bones is None:
        return joints
    numbers, made = table.raw()[:, 0].astype(np.int64), joints.copy()
    for part, (first, count) in zip(mesh.parts, stored.bones, strict=True):
        rows = used_rows(mesh.triangles[part.start : part.start + part.count], len(mesh.positions))
        own = joints[rows]
        if count and len(own):
            made[rows] = numbers[first + np.minimum(own, count - 1)]
    return made


# back


@dataclass
class Pieces:
    """Parts as they are written: their triangles (numbers in the vertices that are written), and what each is like."""

    parts: list[Part]
    triangles: list[Array]
    like: list[int]  # the record of the original that each is like
    bones: list[Array]


def pieces_of(mesh: Mesh, like: list[int], most_bones: int, palettes: bool) -> Pieces:
    """The parts of a mesh, split where they need more bones than a part may have."""
    made = Pieces([], [], [], [])
    for part, other in zip(mesh.parts, like, strict=True):
        own = mesh.triangles[part.start : part.start + part.count].astype(np.int64)
        groups = [own]
        if palettes and mesh.joints is not None and mesh.weights is not None and len(own):
            groups = split_by_bones(mesh.joints, mesh.weights, own, most_bones)
        for group in groups:
            made.parts.append(replace(part, count=len(group)))
            made.triangles.append(group)
            made.like.append(other)
            bones = np.zeros(0, np.int64)
            if palettes and mesh.joints is not None and mesh.weights is not None and len(group):
                bones = used_bones(mesh.joints, mesh.weights, group)
            made.bones.append(bones)
    return made


def picked(mesh: Mesh, order: Array) -> Mesh:
    """A mesh with some of its vertices in another order; its triangles are still of the old one."""
    return replace(
        mesh,
        positions=mesh.positions[order],
        uvs=[one[order] for one in mesh.uvs],
        colours=[colour[order] for colour in mesh.colours],
        morphs=[
            replace(
                morph,
                positions=morph.positions[order],
                normals=morph.normals[order] if morph.normals is not None else None,
            )
            for morph in mesh.morphs
        ],
        **{
            name: value[order]
            for name in ("normals", "tangents", "joints", "weights")
            if (value := getattr(mesh, name)) is not None
        },
    )


def each_corner(mesh: Mesh, pieces: Pieces, like: Array) -> tuple[Mesh, Array]:
    """A mesh with a vertex for each corner of each triangle, as formats without indices want it; and the rows that they
    are like."""
    order = np.concatenate([own.reshape(-1) for own in pieces.triangles]) if pieces.triangles else np.zeros(0, np.int64)
    left = len(mesh.positions) - len(order)  # one or two make no triangle, and stay
    if 0 <= left < 3 and bool((order == np.arange(len(order))).all()):
        return mesh, like
    at = 0
    for number, own in enumerate(pieces.triangles):
        pieces.triangles[number] = np.arange(at, at + own.size).reshape(-1, 3)
        at += own.size
    made = picked(mesh, order)
    made.triangles = np.arange(len(order), dtype=np.uint32).reshape(-1, 3)
    return made, like[order]


def apart(mesh: Mesh, pieces: Pieces, like: Array, together: bool) -> tuple[Mesh, Array, list[tuple[int, int]]]:
    """The mesh with the vertices of each part by themselves, as formats want them that give a range of vertices for
    each.

    Returns it, the rows that they are like, and the range of each part. `together`: they may stay as they are when they
    already lie so.
    """
    used = [used_rows(own, len(mesh.positions)) for own in pieces.triangles]
    ranges = [(int(one[0]), int(one[-1]) + 1) if len(one) else (0, 0) for one in used]
    ends = [0, *(end for _, end in ranges)]
    if together and all(start >= end for (start, _), end in zip(ranges, ends, strict=False)):
        return mesh, like, ranges
    order = np.concatenate(used) if used else np.zeros(0, np.int64)
    starts = np.cumsum([0, *map(len, used)])
    for number, rows in enumerate(used):
        pieces.triangles[number] = np.searchsorted(rows, pieces.triangles[number]) + int(starts[number])
    made = picked(mesh, order)
    made.triangles = np.concatenate(pieces.triangles) if pieces.triangles else mesh.triangles
    return made, like[order], [(int(starts[n]), int(starts[n + 1])) for n in range(len(used))]


def take_parts(columns: AllColumns, reading: Reading, pieces: Pieces) -> None:
    """The records of parts, as many as are written: new ones are as those that they are like, until something is put
    into them."""
    found = next((reading.attribute(one) for one in ("first index", "index count") if reading.attribute(one)), None)
    if found is None:
        if len(pieces.parts) > 1:
            raise RefusedError("this format has one part, the model has several", "one material for all of it")
        return
    name = found[0].block.name
    rows = np.array([max(0, one) for one in pieces.like], np.int64)
    if len(rows) and not len(found[0].starts):
        raise RefusedError("the game's own file has no part that a new one could be like", "another model")
    take_rows(columns, reading, name, rows)


def put_triangles(
    columns: AllColumns,
    reading: Reading,
    pieces: Pieces,
    ranges: list[tuple[int, int]] | None,
    strips: bool,
    space: Space,
) -> None:
    """Put indices and parts into columns; the indices of a part whose triangles are as they were stay as they are."""
    fact = fact_in(reading, "index")
    vertices = len(columns[_vertex_block(reading)][next(iter(columns[_vertex_block(reading)]))])
    old_all, old = stored_indices(reading, vertices), stored_parts(reading, _index_count(reading), 1 << 40)
    based = reading.attribute("first vertex") is not None
    made, starts, counts, bases = list[Array](), list[int](), list[int](), list[int]()
    for number, own in enumerate(pieces.triangles):
        base = ranges[number][0] if based and ranges is not None else 0
        like = pieces.like[number]
        turned = (own[:, [0, 2, 1]] if space.flips else own) - base
        stored = None
        if fact is not None and 0 <= like < len(old):
            before = old_all[old.first[like] : old.first[like] + old.count[like]]
            same = plain_triangles(before, strips, restart_of(reading))
            if same.shape == turned.shape and bool((same == turned).all()):
                stored = before
        if stored is None:
            stored = to_strip(turned) if strips else turned.reshape(-1)
        starts.append(sum(map(len, made)))
        counts.append(len(stored))
        bases.append(base)
        made.append(stored)
    whole = np.concatenate(made) if made else np.zeros(0, np.int64)
    if fact is not None:
        room = fact.kind.largest - (1 if strips else 0)
        if len(whole) and int(whole.max()) > room:
            raise RefusedError(
                f"{int(whole.max()) + 1:,} vertices: numbers of {fact.kind.leaf} reach {room + 1:,}",
                "a model of fewer vertices",
            )
        rows = np.minimum(np.arange(len(whole)), max(0, len(fact.raw()) - 1))
        name = fact.block.block.name
        if len(fact.raw()):
            take_rows(columns, reading, name, rows)
        fact.put(columns[name], whole[:, None])
    elif not bool((whole == np.arange(len(whole))).all()):
        raise RefusedError("this format has no indices: each triangle has three vertices of its own", "`volvex swap`")
    _put_parts(columns, reading, pieces, ranges, (starts, counts, bases))


def _vertex_block(reading: Reading) -> str:
    found = fact_in(reading, "position")
    assert found is not None
    return found.block.block.name


def _index_count(reading: Reading) -> int:
    fact = fact_in(reading, "index")
    return 1 << 40 if fact is None else len(fact.raw())


def _put_parts(
    columns: AllColumns,
    reading: Reading,
    pieces: Pieces,
    ranges: list[tuple[int, int]] | None,
    places: tuple[list[int], list[int], list[int]],
) -> None:
    """What the records of parts say, which are there already (`take_parts`)."""
    starts, counts, bases = places
    put_ints(columns, reading, "first index", starts)
    put_ints(columns, reading, "index count", counts)
    if ranges is not None:
        put_ints(columns, reading, "first vertex", bases)
        put_ints(columns, reading, "vertex count", [end - start for start, end in ranges])
    put_ints(columns, reading, "part lod", [part.lod for part in pieces.parts])
    put_words(columns, reading, "part use", [part.use for part in pieces.parts])
    if texts_of(reading, "part name") is not None:
        put_texts(columns, reading, "part name", [part.name for part in pieces.parts])


def put_bones(columns: AllColumns, reading: Reading, pieces: Pieces, joints: Array) -> Array:
    """Put each part's bones into columns; the joints of vertices as numbers of their part's bones."""
    table = fact_in(reading, "bone")
    if table is None or reading.attribute("first bone") is None:
        return joints
    made, starts = joints.copy(), np.cumsum([0, *map(len, pieces.bones)])
    for bones, own in zip(pieces.bones, pieces.triangles, strict=True):
        rows = used_rows(own, len(joints))
        if len(bones):
            found = np.searchsorted(bones, joints[rows])
            made[rows] = np.where(
                bones[np.minimum(found, len(bones) - 1)] == joints[rows], np.minimum(found, len(bones) - 1), 0
            )
    name = table.block.block.name
    whole = np.concatenate(pieces.bones) if pieces.bones else np.zeros(0, np.int64)
    rows = np.minimum(np.arange(len(whole)), max(0, len(table.raw()) - 1))
    take_rows(columns, reading, name, rows)
    table.put(columns[name], whole[:, None])
    put_ints(columns, reading, "first bone", starts[:-1])
    put_ints(columns, reading, "bone count", [len(bone) for bone in pieces.bones])
    return made


def put_bounds(
    columns: AllColumns, reading: Reading, points: Array, pieces: Pieces, changed: list[bool], skip: str = ""
) -> None:
    """Put boxes and spheres into columns: of the whole into single records, of parts into theirs.

    points   positions in the game's space as they are stored
    changed  which parts did: the bounds of others stay, since games measure them in ways of their own
    skip     facts that begin with this are ranges, and stay
    """
    for what in ("box low", "box high", "sphere centre", "sphere radius"):
        fact = fact_in(reading, what)
        if fact is None or (skip and what.startswith(skip) and not fact.block.block.repeats):
            continue
        rows = fact.block.block.repeats
        drawn = [own for own, part in zip(pieces.triangles, pieces.parts, strict=True) if part.use != COLLISION]
        groups = pieces.triangles if rows else [np.concatenate(drawn) if drawn else np.zeros((0, 3), np.int64)]
        raw = fact.raw(columns[fact.block.block.name])
        values = np.asarray(raw, np.float64).copy()
        for number, own in enumerate(groups):
            if len(own) and number < len(values) and (changed[number] if rows else any(changed)):
                values[number] = _bound(what, points[used_rows(own, len(points))])[: values.shape[1]]
        if any(changed):
            fact.put(columns[fact.block.block.name], values.astype(fact.kind.dtype.newbyteorder("=")))


def _bound(what: str, points: Array) -> Array:
    if what.startswith("box"):
        return np.asarray(points.min(axis=0) if what.endswith("low") else points.max(axis=0))
    middle, radius = sphere_around(points)
    return middle if what == "sphere centre" else np.array([radius])
