"""What fields say of each other: bits of a number, lengths and counts told before, conditions."""

from __future__ import annotations

import difflib
from collections.abc import Iterator

from volvex.layout.model import (
    ArrayType,
    Attribute,
    Bits,
    Block,
    Condition,
    Described,
    Field,
    Float,
    IntegerType,
    Layout,
    Measure,
    Number,
    Opaque,
    Place,
    Raw,
    RecordsOf,
    Text,
    Value,
    When,
)

Problem = tuple[Place, str, str]  # where, what, hint


def check_siblings(siblings: tuple[Field, ...], number: int) -> Iterator[Problem]:
    """What the field of that number says of other fields of its record: they come before it, and are numbers."""
    field = siblings[number]
    uses = field.type.uses
    if field.type.sibling:
        before = siblings[:number]
        name = field.type.sibling
        other = next((field for field in before if field.name == name), None)
        if other is None:
            near = difflib.get_close_matches(name, [field.name for field in before], 1)
            yield (
                field.place,
                f"`{field.name}` uses {name}, but no field before it has that name",
                near[0] if near else "",
            )
        elif not isinstance(other.type, IntegerType) or other.when is not None:
            yield field.place, f"`{field.name}` needs a number, `{name}` is {other.type}", "u32"
        elif uses in ("length", "count") and isinstance(other.type, Number) and other.type.signed:
            yield other.place, f"`{name}` gives a length, which cannot be negative", f"u{other.type.bits}"
        elif uses == "length" and not (isinstance(other.meaning, Measure) and other.meaning.part == field.name):
            yield (
                other.place,
                f"`{name}` gives the length of `{field.name}`, and should have that meaning",
                f"length of {field.name}",
            )
        elif uses == "bits" and not (isinstance(other.type, Number) and isinstance(other.meaning, Described)):
            yield other.place, f"some bits of `{name}` have a meaning of their own", f"{name}  {other.type}  described"
        elif isinstance(field.type, Bits) and isinstance(other.type, Number) and field.type.high >= other.type.bits:
            yield field.place, f"{other.type} has no bit {field.type.high}", f"bits 0 to {other.type.bits - 1}"
    if field.type.compound and field.type.uses:
        of = field.type.of if isinstance(field.type, ArrayType) and isinstance(field.type.count, int) else None
        numbers = isinstance(of, Number | Float) and isinstance(
            field.meaning, Attribute
        )  # if the kind has facts of several
        if not isinstance(field.meaning, Opaque | RecordsOf | Value) and not numbers:
            yield field.place, f"`{field.name}` is {field.type}, which can only be kept", "kept"
        if isinstance(field.type, ArrayType) and not field.type.of.min_size:
            yield (
                field.place,
                f"an element of `{field.name}` may have no bytes at all",
                "a record with a field of fixed size",
            )


def check_condition(layout: Layout, when: When | None, home: Block | None, place: Place) -> Iterator[Problem]:
    """The conditions of a block, or of a field of the block `home`."""
    for test in when.tests if when is not None else ():
        yield from _check_test(layout, test, home, place)
    if when is None:
        return
    asking = next((field for field in home.fields if field.when is when), None) if home else None
    if asking is not None and home is not None:
        yield from check_own_condition(home.fields, asking, {field.name for field in home.fields})


def _check_test(layout: Layout, when: Condition, home: Block | None, place: Place) -> Iterator[Problem]:
    field, block = conditioned(layout, when, home)
    if field is None or block is None:
        known = [f"{block.name}.{two.name}" for block in layout.blocks if not block.repeats for two in block.fields]
        near = difflib.get_close_matches(when.field, known, 1)
        yield (
            place,
            f"`when {when}`: there is no field {when.field}",
            near[0] if near else "`when head.version is 2`, or a field of the same record",
        )
    elif block is not home and block.repeats:
        yield (
            place,
            f"`when {when}`: {block.name} has many records",
            "a field of the same record, or of a block that is one record",
        )
    elif when.how == "ends" or not isinstance(field.type, IntegerType | Raw | Text):
        yield place, f"`when {when}`: `{field.name}` is {field.type}, which cannot be compared so", "a number or a text"
    elif isinstance(field.type, Text) and field.type.width != 1:
        yield place, f"`when {when}`: a text in {field.type.encoding} cannot be compared", "a number"
    elif isinstance(when.value, bytes) != isinstance(field.type, Raw | Text):
        yield (
            place,
            f"`when {when}`: `{field.name}` is {field.type}",
            "a number for a number, a text in quotes for bytes and texts",
        )


def conditioned(layout: Layout, when: Condition, home: Block | None) -> tuple[Field | None, Block | None]:
    """The field that a condition asks, and its block: of the same record, or `block.field`."""
    if home is not None:
        own = next((field for field in home.fields if field.name == when.field), None)
        if own is not None:
            return own, home
    name, _, rest = when.field.partition(".")
    block = layout.block(name)
    return next((field for field in block.fields if field.name == rest), None) if block else None, block


def check_own_condition(siblings: tuple[Field, ...], field: Field, names: set[str] | None = None) -> Iterator[Problem]:
    """Conditions on fields of the same record, which come before. `names`: those of the record, when others may be
    asked too."""
    if field.when is None:
        return
    before = {other.name: other for other in siblings[: siblings.index(field)]}
    for test in field.when.tests:
        if names is not None and test.field not in names:
            continue
        other = before.get(test.field)
        if other is None or not isinstance(other.type, IntegerType | Raw | Text):
            near = difflib.get_close_matches(test.field, list(before), 1)
            problem = f"`when {test}`: no field before `{field.name}` has that name"
            yield field.place, problem, near[0] if near else "a number that comes before it"
        elif (
            isinstance(other.type, Bits) and (host := before.get(other.type.host)) is not None and host.when is not None
        ):
            yield (
                field.place,
                f"`when {test}`: `{other.name}` is not always there",
                "the same condition as that field has",
            )


def half_of(block: Block, meaning: Attribute | Measure, upper: bool) -> Field | None:
    """The field that holds the upper or the lower bits of what `meaning` says; a number that is not split is the
    lower."""
    for field in block.fields:
        other = field.meaning
        if not isinstance(other, Attribute | Measure) or type(other) is not type(meaning) or other.upper != upper:
            continue
        if other.what == meaning.what and getattr(other, "part", "") == getattr(meaning, "part", ""):
            return field
    return None
