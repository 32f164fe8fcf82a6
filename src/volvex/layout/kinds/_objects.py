"""Objects of a package that refer to others: which field of their record holds the id of one."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from volvex.layout.model import Attribute, IntegerType, Layout, Place, Value

REFERS = "refers to object"
OBJECT = "object"


def meaning(words: str, blocks: Sequence[str]) -> Value | None:
    """The value that a field of an object's record is; None for other words."""
    return Value("value", (), OBJECT) if words == REFERS else None


def check_references(layout: Layout) -> Iterator[tuple[Place, str, str]]:
    """That only fields of records refer to objects, by numbers, where objects have ids."""
    ids = any(
        isinstance(field.meaning, Attribute) and field.meaning.what == "id"
        for block in layout.blocks
        for field in block.fields
    )
    for block in layout.blocks:
        for field in block.fields:
            if isinstance(field.meaning, Value):
                yield field.place, f"`{field.words}` is about an object's content", "a `record` of the object's type"
    for record in layout.records:
        for field in record.fields:
            if not isinstance(field.meaning, Value):
                continue
            if not isinstance(field.type, IntegerType):
                yield field.place, f"`{field.name}` refers to an object by its id, so it is a number", "u32"
            elif not ids:
                yield field.place, f"`{field.words}`, and no object has an id", "u32  id"
