"""How the numbers of a fact are stored: floats, whole numbers that are shares of their largest, bits; read and written
by columns."""

from __future__ import annotations

import weakref
from dataclasses import dataclass
from typing import Any

import numpy as np

from volvex.asset.model.model import Array
from volvex.errors import RefusedError
from volvex.layout.columns import Columns, Texts
from volvex.layout.kinds._model import SMALLEST, parts_of
from volvex.layout.model import ArrayType, Attribute, Bits, Field, FieldType, Float, Number
from volvex.layout.read.blocks import BlockRead, Reading

SPREAD = np.float64(np.sqrt(0.5))  # the most that the smaller numbers of a quaternion can be


@dataclass(frozen=True)
class Slot:
    """A field that holds one number of a fact, or (an array) several."""

    field: Field
    leaf: FieldType
    count: int
    width: int = 1  # numbers of its array, of which those behind the fact's own are kept

    @property
    def dtype(self) -> np.dtype[Any]:
        """Of one number as it is in memory."""
        leaf = self.leaf
        if isinstance(leaf, Float):
            return np.dtype(f"{'>' if leaf.big else '<'}f{leaf.size}")
        if isinstance(leaf, Number) and leaf.bits in (8, 16, 32, 64):
            return np.dtype(leaf.dtype)
        return np.dtype(np.int64)

    @property
    def largest(self) -> int:
        """The number that stands for 1; 0 for floats."""
        if isinstance(self.leaf, Float):
            return 0
        if isinstance(self.leaf, Bits):
            return int(self.leaf.limits[1])
        return int(getattr(self.leaf, "limits", (0, 0))[1])

    @property
    def signed(self) -> bool:
        return bool(getattr(self.leaf, "signed", False))


@dataclass(frozen=True)
class Fact:
    """A fact of a file: the fields that hold it, in order, and their block."""

    name: str
    block: BlockRead
    slots: tuple[Slot, ...]
    columns: tuple[int, ...]  # which of its numbers these are

    def raw(self, columns: Columns | None = None) -> Array:
        """The stored numbers: rows x numbers."""
        found = self.block.columns if columns is None else columns
        parts = [_taken(found, slot) for slot in self.slots]
        return parts[0] if len(parts) == 1 else np.concatenate(parts, axis=1)

    def put(self, columns: Columns, raw: Array) -> None:
        """Put stored numbers into columns that are written."""
        at = 0
        for slot in self.slots:
            values = np.ascontiguousarray(raw[:, at : at + slot.count].astype(slot.dtype))
            at += slot.count
            if isinstance(slot.field.type, ArrayType):
                if slot.width > slot.count:
                    rest = _whole(columns, slot)[:, slot.count :]
                    values = np.ascontiguousarray(np.concatenate([values, rest], axis=1))
                columns[slot.field.name] = values.view(np.dtype((np.void, slot.dtype.itemsize * slot.width)))[:, 0]
            elif isinstance(slot.leaf, Float):
                columns[slot.field.name] = values[:, 0].view(slot.leaf.dtype)
            else:
                columns[slot.field.name] = values[:, 0]

    @property
    def kind(self) -> Slot:
        """How its numbers are stored: as the first of them."""
        return self.slots[0]


def _taken(columns: Columns, slot: Slot) -> Array:
    column = columns[slot.field.name]
    assert not isinstance(column, Texts)
    if isinstance(slot.field.type, ArrayType):
        return _whole(columns, slot)[:, : slot.count]
    if isinstance(slot.leaf, Float):
        return column.view(slot.dtype)[:, None]
    return column[:, None]


def _whole(columns: Columns, slot: Slot) -> Array:
    """All numbers of an array."""
    column = columns[slot.field.name]
    assert not isinstance(column, Texts)
    return np.ascontiguousarray(column).view(slot.dtype).reshape(len(column), slot.width)


_TABLES: dict[int, dict[str, list[tuple[BlockRead, Field]]]] = {}  # of readings that are alive, by their identity


def _by_meaning(reading: Reading) -> dict[str, list[tuple[BlockRead, Field]]]:
    """The fields of a file by what they mean: asked for so often that it is made once."""
    if id(reading) not in _TABLES:
        found: dict[str, list[tuple[BlockRead, Field]]] = {}
        for block in reading.blocks.values():
            for field in block.block.fields:
                if isinstance(field.meaning, Attribute) and not field.meaning.upper:
                    found.setdefault(field.meaning.what, []).append((block, field))
        weakref.finalize(reading, _TABLES.pop, id(reading), None)
        _TABLES[id(reading)] = found
    return _TABLES[id(reading)]


def facts_of(reading: Reading, name: str) -> list[Fact]:
    """Each place where a file has a fact: one for each block that holds it."""
    numbers, table = parts_of(name), _by_meaning(reading)
    found: dict[str, dict[int, tuple[Field, int]]] = {}
    blocks: dict[str, BlockRead] = {}
    for at, phrase in enumerate((name, *(f"{name} {part}" for part in numbers))):
        for block, field in table.get(phrase, ()):
            kind = field.type
            width = kind.count if isinstance(kind, ArrayType) and isinstance(kind.count, int) else 1
            count = min(width, max(1, len(numbers)))
            found.setdefault(block.block.name, {})[max(0, at - 1)] = (field, count)
            blocks[block.block.name] = block
    made = []
    for home, fields in found.items():
        slots, which = [], list[int]()
        for at, (field, count) in sorted(fields.items()):
            leaf = field.type.of if isinstance(field.type, ArrayType) else field.type
            slots.append(Slot(field, leaf, count, getattr(field.type, "count", 1)))
            which += range(at, at + count)
        made.append(Fact(name, blocks[home], tuple(slots), tuple(which)))
    return made


def fact_in(reading: Reading, name: str) -> Fact | None:
    """The first place where a file has a fact."""
    return next(iter(facts_of(reading, name)), None)


# shares: whole numbers that stand for 0 to 1, or -1 to 1


def shares(raw: Array, slot: Slot, centred: bool = False) -> Array:
    """Stored numbers as floats: floats as they are, whole numbers as shares of their largest.

    `centred`: numbers without a sign stand for -1 to 1, as those of directions do.
    """
    if not slot.largest:
        return np.asarray(raw, np.float32)
    values = np.asarray(raw, np.float64) / slot.largest
    if slot.signed:
        return np.maximum(values, -1).astype(np.float32)
    return (values * 2 - 1 if centred else values).astype(np.float32)


def from_shares(values: Array, slot: Slot, centred: bool = False) -> Array:
    """The nearest stored numbers; those beyond the range become its ends."""
    if not slot.largest:
        return rounded_floats(values, slot)
    exact = np.asarray(values, np.float64)
    if not slot.signed and centred:
        exact = (exact + 1) / 2
    low = -slot.largest if slot.signed else 0
    return np.clip(np.rint(exact * slot.largest), low, slot.largest).astype(np.int64)


def rounded_floats(values: Array, slot: Slot) -> Array:
    """Values as floats of the stored size; RefusedError for those that are too large for it."""
    with np.errstate(over="ignore"):
        made = np.asarray(values).astype(slot.dtype.newbyteorder("="))
    if bool((np.isinf(made) & np.isfinite(np.asarray(values, np.float64))).any()):
        most = float(np.abs(values).max())
        raise RefusedError(
            f"{slot.field.name} is stored as f{slot.dtype.itemsize * 8}, which cannot hold {most:g}", "a smaller model"
        )
    return made


# octahedral normals and the smallest three numbers of a quaternion


def from_octahedron(folded: Array) -> Array:
    """Directions from the two numbers of an octahedron that is unfolded. Source: Cigolle et al., JCGT 3(2), 2014."""
    x, y = (folded[:, at].astype(np.float64) for at in (0, 1))
    z = 1 - np.abs(x) - np.abs(y)
    below = np.maximum(-z, 0)
    made = np.stack([x - np.copysign(below, x), y - np.copysign(below, y), z], axis=1)
    return unit(made)


def to_octahedron(directions: Array) -> Array:
    """The two numbers of directions; the inverse of `from_octahedron`."""
    exact = np.asarray(directions, np.float64)
    size = np.abs(exact).sum(axis=1, keepdims=True)
    x, y, z = (exact / np.where(size == 0, 1, size)).T
    below = z < 0
    folded_x = np.where(below, np.copysign(1 - np.abs(y), x), x)
    folded_y = np.where(below, np.copysign(1 - np.abs(x), y), y)
    return np.stack([folded_x, folded_y], axis=1)


def unit(directions: Array) -> Array:
    """Directions of length 1, as float32; those of no length point up, as no program reads others."""
    exact = np.asarray(directions, np.float64)
    length = np.linalg.norm(exact, axis=1, keepdims=True)
    none = length[:, 0] < 1e-12
    made = (exact / np.where(length < 1e-12, 1, length)).astype(np.float32)
    made[none] = 0
    made[none, 1 if made.shape[1] < 4 else 3] = 1
    return made


def from_smallest(raw: Array, slots: tuple[Slot, ...]) -> Array:
    """Quaternions from the number of their largest part, and shares of the three others."""
    largest = raw[:, 0].astype(np.int64) & 3
    others = np.stack(
        [shares(raw[:, at], slots[at], centred=True).astype(np.float64) * SPREAD for at in (1, 2, 3)], axis=1
    )
    rest = np.sqrt(np.maximum(0, 1 - (others**2).sum(axis=1)))
    made = np.zeros((len(raw), 4))
    rows = np.arange(len(raw))
    made[rows, largest] = rest
    for at in range(3):
        made[rows, np.where(at < largest, at, at + 1)] = others[:, at]
    return unit(made)


def to_smallest(quaternions: Array, slots: tuple[Slot, ...]) -> Array:
    """The stored numbers of quaternions; the inverse of `from_smallest`."""
    exact = np.asarray(quaternions, np.float64)
    exact = exact / np.maximum(np.linalg.norm(exact, axis=1, keepdims=True), 1e-12)
    rows, largest = np.arange(len(exact)), np.argmax(np.abs(exact), axis=1)
    exact = exact * np.where(exact[rows, largest] < 0, -1, 1)[:, None]
    made = np.zeros((len(exact), len(SMALLEST)), np.int64)
    made[:, 0] = largest
    for at in range(3):
        other = exact[rows, np.where(at < largest, at, at + 1)]
        made[:, at + 1] = from_shares(other / SPREAD, slots[at + 1], centred=True)
    return made


# what goes back


def kept_rows(old_raw: Array, old: Array, new: Array, made: Array, like: Array, again: Array) -> Array:
    """The stored numbers of new rows: those of the row that each is like, where its value is the same.

    old_raw, old   stored numbers and values of the file, by row
    new, made      new values, and how these are stored
    like           for each new row the old one, or -1
    again          how the old values are stored when they are encoded again: where that is what the new ones become,
                   nothing changed
    """
    out = made.astype(old_raw.dtype.newbyteorder("=") if old_raw.dtype.kind == "f" else np.int64)
    rows = np.flatnonzero(like >= 0)
    if not len(rows) or not len(old):
        return out
    before = like[rows]
    same = (old[before] == new[rows]).reshape(len(rows), -1).all(axis=1)
    same |= (again[before] == made[rows]).reshape(len(rows), -1).all(axis=1)
    out[rows[same]] = old_raw[before[same]]
    return out


def to_weights(weights: Array, slot: Slot) -> Array:
    """Weights of each vertex as stored numbers whose sum is the largest number: what rounding leaves goes to the
    heaviest."""
    exact = np.asarray(weights, np.float64)
    total = exact.sum(axis=1, keepdims=True)
    exact = exact / np.where(total <= 0, 1, total)
    if not slot.largest:
        return rounded_floats(exact, slot)
    made = np.rint(exact * slot.largest).astype(np.int64)
    rest = np.where(total[:, 0] > 0, slot.largest - made.sum(axis=1), 0)
    rows = np.arange(len(made))
    made[rows, np.argmax(exact, axis=1)] += rest
    return np.clip(made, 0, slot.largest)
