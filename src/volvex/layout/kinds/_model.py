"""What the kinds of models have in common: the facts of vertices, triangles, parts, joints, keys and materials.

A fact of several numbers (a position, a rotation) is one field of an array, or a field for each number: `position`, or
`position x`, `position y`, `position z`.
"""

from __future__ import annotations

import functools
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass

from volvex.codec.parameters import Parameter, parse_spec, settled
from volvex.errors import UsageError
from volvex.layout.model import (
    ArrayType,
    Attribute,
    Field,
    FieldType,
    Float,
    IntegerType,
    Layout,
    Number,
    Pool,
    Text,
)
from volvex.layout.types import Place

Numbers = dict[str, tuple[str, ...]]  # facts, with the names of their numbers
XYZ, XYZW = ("x", "y", "z"), ("x", "y", "z", "w")
LETTERS = tuple("abcdefgh")  # of joints and weights, which have no names of their own
SETS = ("uv", "second uv", "third uv", "fourth uv")
COLOUR_SETS = ("colour", "second colour")
SMALLEST = ("largest", "a", "b", "c")  # of a quaternion: which number is left out, and the others

VERTEX: Numbers = {
    "position": XYZ,
    "normal": XYZ,
    "octahedral normal": ("x", "y"),
    "tangent": XYZW,
    "octahedral tangent": ("x", "y"),
    "tangent sign": (),
    **dict.fromkeys(SETS, ("u", "v")),
    **dict.fromkeys(COLOUR_SETS, ("red", "green", "blue", "alpha")),
    "joints": LETTERS,
    "weights": LETTERS,
}
INDEX: Numbers = {"index": ()}
PART: Numbers = dict.fromkeys(
    (
        "first index",
        "index count",
        "first vertex",
        "vertex count",
        "part material",
        "part name",
        "part lod",
        "part use",
        "first bone",
        "bone count",
    ),
    (),
)
BONE: Numbers = {"bone": ()}
BOUNDS: Numbers = {"box low": XYZ, "box high": XYZ, "sphere centre": XYZ, "sphere radius": ()}
RANGES: Numbers = {"position scale": XYZ, "position offset": XYZ, "uv scale": ("u", "v")}
MORPH: Numbers = {"morph name": (), "first shift": (), "shift count": ()}
SHIFT: Numbers = {"shift": XYZ, "shifted vertex": ()}
REFERENCES: Numbers = {"skeleton file": (), "model name": ()}
JOINT: Numbers = {
    "joint name": (),
    "joint hash": (),
    "joint parent": (),
    "joint translation": XYZ,
    "joint rotation": XYZW,
    "joint scale": XYZ,
    "bind matrix": tuple("abcdefghijklmnop"),
    "bind translation": XYZ,
    "bind rotation": XYZW,
}
ANIMATION: Numbers = {
    "animation name": (),
    "duration": (),
    "frame rate": (),
    "frames": (),
    "first track": (),
    "track count": (),
    "first frame": (),
}
TRACK: Numbers = {
    "track joint": (),
    "track joint name": (),
    "track joint hash": (),
    "track of": (),
    "first key": (),
    "key count": (),
    "track scale": XYZ,
    "track offset": XYZ,
}
KEY: Numbers = {
    "key time": (),
    "translation key": XYZ,
    "scale key": XYZ,
    "rotation key": XYZW,
    "smallest rotation key": SMALLEST,
}
ROLES = ("colour", "normal", "gloss", "emission", "occlusion", "specular", "mask", "other")
TEXTURES: Numbers = dict.fromkeys((f"{role} texture" for role in ROLES), ())
MATERIAL: Numbers = {
    "material name": (),
    **TEXTURES,
    "material colour": ("red", "green", "blue", "alpha"),
    "alpha mode": (),
    "alpha cutoff": (),
    "two sided": (),
    "metalness": (),
    "roughness": (),
}
FAMILIES: dict[str, Numbers] = {
    "vertex": VERTEX,
    "index": INDEX,
    "part": PART,
    "bone": BONE,
    "bounds": BOUNDS,
    "range": RANGES,
    "morph": MORPH,
    "shift": SHIFT,
    "reference": REFERENCES,
    "joint": JOINT,
    "animation": ANIMATION,
    "track": TRACK,
    "key": KEY,
    "material": MATERIAL,
}
WHOLE = (  # facts of which no number may be left out
    "position",
    "normal",
    "octahedral normal",
    "octahedral tangent",
    *SETS,
    "box low",
    "box high",
    "sphere centre",
    "shift",
    "joint translation",
    "bind translation",
)
WORDS = {  # what the words of a table may be
    "part use": ("drawn", "collision"),
    "track of": ("translation", "rotation", "scale"),
    "alpha mode": ("opaque", "mask", "blend"),
}
NAMES = {
    "part name",
    "model name",
    "skeleton file",
    "morph name",
    "joint name",
    "track joint name",
    "animation name",
    "material name",
    "part material",
    *TEXTURES,
}
SPEC = {
    "up": Parameter("y", words=("x", "y", "z")),
    "handed": Parameter("right", words=("right", "left")),
    "units": Parameter(1, numbers=(1, 1_000_000)),  # that are a metre
    "winding": Parameter("natural", words=("natural", "counter", "clockwise")),
    "faces": Parameter("list", words=("list", "strip")),
    "v": Parameter("down", words=("down", "up")),
    "positions": Parameter("plain", words=("plain", "share")),
    "bind": Parameter("local", words=("local", "world", "inverse")),
    "rows": Parameter("columns", words=("columns", "rows")),
    "bones": Parameter(0, numbers=(0, 65535)),  # that a part may use; 0: as many as there are
}
MODEL = "model"  # the name of these parameters: content as model(up z)


def spec_of(layout: Layout) -> dict[str, str | int]:
    """How a model lies in space and in its file, with all that a layout leaves out; UsageError for what it cannot
    be."""
    found = parse_spec(layout.content.codec or MODEL)
    if found.name != MODEL:
        raise UsageError(f"{found.name} is not a property of models", "content as model(up z, handed left)")
    return settled(found, SPEC)


def phrases(families: Iterable[str]) -> dict[str, str]:
    """Every phrase of some families, with whose fact it is."""
    found: dict[str, str] = {}
    for family in families:
        for what, parts in FAMILIES[family].items():
            found |= dict.fromkeys((what, *(f"{what} {part}" for part in parts)), family)
    return found


@functools.cache
def fact_of(phrase: str) -> tuple[str, str]:
    """The fact that a phrase is about, and which of its numbers: nothing for all."""
    for family in FAMILIES.values():
        if phrase in family:
            return phrase, ""
    fact, _, part = phrase.rpartition(" ")
    return fact, part


@functools.cache
def parts_of(fact: str) -> tuple[str, ...]:
    """The numbers of a fact, by their names."""
    return next((family[fact] for family in FAMILIES.values() if fact in family), ())


@dataclass(frozen=True)
class ModelKind:
    """A kind whose files hold a model or parts of one: which families of facts it has, and which facts it needs."""

    FAMILIES: tuple[str, ...]
    needed: tuple[str, ...]
    NEEDS: tuple[str, ...] = ()
    PARTS: tuple[str, ...] = ()
    TABLED: tuple[str, ...] = ("part use", "track of", "alpha mode")
    WORDED: tuple[str, ...] = ("frame rate", "two sided")
    EACH_BLOCK: tuple[str, ...] = ("key time",)

    @property
    def facts(self) -> list[str]:
        """The facts that files of the kind have, those of several numbers once."""
        return [fact for family in self.FAMILIES for fact in FAMILIES[family]]

    @functools.cached_property
    def OF(self) -> dict[str, str]:
        return phrases(self.FAMILIES)

    @functools.cached_property
    def SINGLE(self) -> tuple[str, ...]:
        return tuple(phrases(self.FAMILIES))  # which must repeat is checked here

    @functools.cached_property
    def ATTRIBUTES(self) -> dict[str, tuple[type, ...]]:
        return {
            phrase: (IntegerType, Float, *((ArrayType,) if fact_of(phrase) == (phrase, "") else ()), Text)
            for phrase in phrases(self.FAMILIES)
        }

    def check(self, layout: Layout) -> Iterator[tuple[Place, str, str]]:
        """What a layout of the kind needs."""
        given = list(_given(layout))
        facts = {fact_of(what)[0] for what, _, _ in given}
        for need in self.needed:
            if not facts & set(need.split(" or ")):
                first = need.split(" or ")[0]
                yield layout.place, f"no field gives the {first}", f"... {first}, in a block that repeats"
        for what, field, repeats in given:
            yield from _check_one(layout, what, field, repeats)
        yield from _check_sets(layout, given)
        try:
            spec_of(layout)
        except UsageError as error:
            yield layout.content.place or layout.place, error.message, error.hint


_EVERY = phrases(FAMILIES)
Given = tuple[str, Field, bool]


def _given(layout: Layout) -> Iterator[Given]:
    for block in layout.blocks:
        for field in block.fields:
            if isinstance(field.meaning, Attribute) and not field.meaning.upper:
                yield field.meaning.what, field, block.repeats


def _check_one(layout: Layout, what: str, field: Field, repeats: bool) -> Iterator[tuple[Place, str, str]]:
    family = _EVERY[what]
    rows = family in ("vertex", "index", "bone", "shift", "joint", "track", "key")
    if rows and not repeats:
        yield field.place, f"the {what} is in a row of records", f"block {family}s after head repeats"
    if family == "range" and repeats:
        yield field.place, f"a model has one {what}, and this block repeats", "a block that does not repeat"
    if field.when is not None:
        yield field.place, f"`{field.words}` cannot depend on something", "a layout for each format"
    fact, part = fact_of(what)
    if what in NAMES and isinstance(field.type, IntegerType):
        pooled = any(isinstance(field.meaning, Pool) for block in layout.blocks for field in block.fields)
        if not pooled and what != "part material":
            yield field.place, f"`{field.name}` points to a text, and no block is `names`", "a pool of texts"
    elif what in NAMES and not isinstance(field.type, Text):
        yield field.place, f"the {what} is a text, `{field.name}` is {field.type}", "text u8"
    elif what not in NAMES and isinstance(field.type, Text):
        yield field.place, f"the {what} is a number, `{field.name}` is {field.type}", "f32"
    if isinstance(field.type, ArrayType):
        yield from _check_array(what, fact, part, field, field.type)
    words = WORDS.get(what)
    if words is not None and isinstance(field.meaning, Attribute):
        unknown = [word for _, word in field.meaning.table if word not in words]
        if unknown or not field.meaning.table:
            yield field.place, f"the {what} is one of {', '.join(words)}", f"{what} {{ 0 {words[0]} }}"


def _check_array(what: str, fact: str, part: str, field: Field, kind: ArrayType) -> Iterator[tuple[Place, str, str]]:
    numbers = parts_of(fact)
    plain = isinstance(kind.of, Number | Float) and isinstance(kind.count, int)
    if part or not numbers or not plain:
        yield field.place, f"the {what} is one number, `{field.name}` is {kind}", "f32"
    elif isinstance(kind.count, int) and not 1 <= kind.count <= len(numbers) + 1:  # one more is padding, and kept
        yield field.place, f"the {what} has at most {len(numbers)} numbers", f"array of {len(numbers)} {kind.of}"
    elif isinstance(kind.count, int) and fact in WHOLE and kind.count < len(numbers):
        yield field.place, f"the {what} has {len(numbers)} numbers", f"array of {len(numbers)} {kind.of}"
    elif fact == "smallest rotation key":
        yield field.place, f"the {what} is a field for each of its numbers", "rows bits 0 to 1"


def _check_sets(layout: Layout, given: Sequence[Given]) -> Iterator[tuple[Place, str, str]]:
    """What only makes sense together: all numbers of a fact, keys with their tracks, a start and a count."""
    seen: dict[str, list[tuple[str, Field]]] = {}
    for what, field, _ in given:
        fact, part = fact_of(what)
        seen.setdefault(fact, []).append((part, field))
    for fact, found in seen.items():
        parts = [part for part, _ in found]
        for part in {part for part in parts if parts.count(part) > 1 and fact != "key time"}:
            yield found[-1][1].place, f"a second field for the {f'{fact} {part}'.strip()}", "`kept`"
        if "" in parts and len(set(parts)) > 1:
            yield found[-1][1].place, f"the {fact} is given as a whole and by its numbers", "one of these"
        wanted = parts_of(fact)
        loose = fact in ("joints", "weights", *COLOUR_SETS)
        lacking = [part for part in wanted if part not in parts]
        if "" not in parts and lacking and not loose and not (fact == "tangent" and lacking == ["w"]):
            yield found[0][1].place, f"no field gives the {fact} {lacking[0]}", f"f32  {fact} {lacking[0]}"
    for one, other in (("joints", "weights"), ("first bone", "bone"), ("first key", "track of")):
        if one in seen and other not in seen and not (one == "joints" and "weights" not in seen):
            yield seen[one][0][1].place, f"`{one}` needs `{other}`, and no field gives it", f"u8  {other}"


def number_of_parts(kind: FieldType, fact: str) -> int:
    """How many numbers of a fact a field holds."""
    return kind.count if isinstance(kind, ArrayType) and isinstance(kind.count, int) else 1
