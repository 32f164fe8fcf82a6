"""Layouts made whole: records put where others name them, and the order of bytes settled."""

from __future__ import annotations

import dataclasses
import difflib
from dataclasses import replace
from typing import Any, TypeVar

from volvex.errors import LayoutError
from volvex.layout.model import (
    ArrayType,
    Block,
    ChecksumOf,
    Choice,
    Content,
    Derived,
    Field,
    FieldType,
    InlineBytes,
    Layout,
    Measure,
    Nested,
    Part,
    Place,
    Record,
    RecordsOf,
    Transform,
)

T = TypeVar("T")
WIDE = ("utf-16", "utf-32")  # encodings whose characters have an order of bytes


def resolved(layout: Layout) -> Layout:
    """The layout with the fields of records in place of their names; LayoutError for a name that no record has."""
    records = tuple(
        replace(record, fields=tuple(_filled(layout, field, (record.name,)) for field in record.fields))
        for record in layout.records
    )
    blocks = []
    for block in layout.blocks:
        fields = tuple(_filled(layout, field, ()) for field in block.fields)
        blocks.append(replace(block, fields=tuple(flat for field in fields for flat in _flat(layout, field))))
    held = [_holding(layout, block, blocks) for block in blocks]
    rows = {block.name for block in held if block.inline}
    return replace(layout, blocks=tuple(_over_rows(block, rows) for block in held), records=records)


def _over_rows(block: Block, rows: set[str]) -> Block:
    """A block whose checksums over rows of entries cover their content too: a stretch of the file."""
    return replace(
        block,
        fields=tuple(
            replace(field, meaning=replace(field.meaning, edge="over"))
            if isinstance(field.meaning, ChecksumOf) and not field.meaning.edge and field.meaning.part in rows
            else field
            for field in block.fields
        ),
    )


def _holding(layout: Layout, block: Block, blocks: list[Block]) -> Block:
    """A block whose records hold those of another: they become an array of as many as a field counts."""
    fields = list(block.fields)
    for place, field in enumerate(fields):
        if not isinstance(field.meaning, RecordsOf):
            continue
        inner = next(other for other in blocks if other.name == field.meaning.block)
        teller = next((other for other in fields[:place] if other.meaning == Measure("count", inner.name)), None)
        problem = ""
        if teller is None:
            problem = f"no field before it gives the number of records of {inner.name} lie here"
        elif (
            inner is block
            or inner.at is not None
            or any(isinstance(other.meaning, RecordsOf) for other in inner.fields)
        ):
            problem = f"the records of {inner.name} lie somewhere else already, or hold records themselves"
        if problem or teller is None:
            raise LayoutError(
                layout.file, field.place.line, field.place.column, problem, hint=f"u32  count of {inner.name}"
            )
        array = ArrayType(Nested(inner.name, inner.fields, field.place), teller.name)
        fields[place] = replace(field, type=array if isinstance(field.type, InlineBytes) else field.type)
    return replace(block, fields=tuple(fields))


def _filled(layout: Layout, field: Field, above: tuple[str, ...]) -> Field:
    return replace(field, type=_type(layout, field.type, above, field.place))


def _type(layout: Layout, kind: FieldType, above: tuple[str, ...], place: Place) -> FieldType:
    if isinstance(kind, Nested):
        return _nested(layout, kind.record, above, kind.place)
    if isinstance(kind, Choice):
        return replace(kind, records=tuple(_nested(layout, name, above, place) for _, name in kind.table))
    return kind.replace_inner(lambda inner: _type(layout, inner, above, place))


def _nested(layout: Layout, name: str, above: tuple[str, ...], place: Place) -> Nested:
    record = layout.record(name)
    if record is None:
        types = [
            *(record.name for record in layout.records),
            "u8",
            "u16",
            "u24",
            "u32",
            "u64",
            "i32",
            "f32",
            "varint",
            "text",
            "bytes",
        ]
        near = difflib.get_close_matches(name, types, 1)
        hint = f"`{near[0]}`" if near else f"record {name}, with its fields below"
        raise LayoutError(layout.file, place.line, place.column, f"there is no type and no record {name}", hint=hint)
    if name in above:
        raise LayoutError(
            layout.file,
            place.line,
            place.column,
            f"the record {name} would hold itself",
            hint="an array in another record",
        )
    return Nested(name, tuple(_filled(layout, field, (*above, name)) for field in record.fields), place)


def _flat(layout: Layout, field: Field) -> list[Field]:
    """A record within a block as its fields, each under its own name: `place.start`."""
    if not isinstance(field.type, Nested):
        return [field]
    if any(field.when for field in field.type.fields) and field.when:
        raise LayoutError(
            layout.file,
            field.place.line,
            field.place.column,
            f"`{field.name}` and its fields each depend on something",
            hint="`when` in one of the two places",
        )
    inner = {field.name for field in field.type.fields}
    found = []
    for one in field.type.fields:
        moved = _renamed(one, f"{field.name}.", inner)
        found += _flat(layout, replace(moved, when=moved.when or field.when))
    return found


def _renamed(field: Field, before: str, inner: set[str]) -> Field:
    """A field of a record as one of the block: what it says of its siblings gets their new names."""

    def new(name: str) -> str:
        return before + name if name in inner else name

    kind = field.type.with_sibling(new(field.type.sibling)) if field.type.sibling else field.type
    meaning = field.meaning
    if isinstance(meaning, Measure) and meaning.what == "length" and meaning.part in inner:
        meaning = replace(meaning, part=new(meaning.part))
    when = field.when.renamed(new) if field.when else None
    return replace(field, name=before + field.name, type=kind, meaning=meaning, when=when)


def ordered(value: T, big: bool) -> T:
    """A layout (or a part of one) in which every number, and text of wide characters, has its order of bytes."""
    if isinstance(value, FieldType):
        return value.with_order(big)  # type: ignore[return-value]
    if isinstance(value, tuple):
        return tuple(ordered(one, big) for one in value)  # type: ignore[return-value]
    if not isinstance(value, Layout | Block | Field | Record) and not _may_hold(value):
        return value
    changes: dict[str, Any] = {}
    for field in dataclasses.fields(value):  # type: ignore[arg-type]
        old = getattr(value, field.name)
        new = ordered(old, big)
        if new is not old and new != old:
            changes[field.name] = new
    return replace(value, **changes) if changes else value  # type: ignore[type-var]


def _may_hold(value: Any) -> bool:
    return isinstance(value, Content | Part | Transform | Derived)
