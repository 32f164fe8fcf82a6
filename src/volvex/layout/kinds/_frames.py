"""What the records around content need: `content headed by local ended by last`."""

from __future__ import annotations

import difflib
from collections.abc import Iterator

from volvex.layout.expression import BytesOf, FieldOf, MeasureOf, SumOf, sums_over_content, walk
from volvex.layout.model import (
    ArrayType,
    Attribute,
    ChecksumOf,
    Computed,
    Constant,
    Field,
    IntegerType,
    Layout,
    Opaque,
    Place,
    Raw,
    Record,
    Text,
)

Problem = tuple[Place, str, str]  # where, what, hint


def check_frames(layout: Layout) -> Iterator[Problem]:
    """What is wrong with the records around content."""
    content = layout.content
    for name in (content.head, content.tail):
        record = layout.record(name)
        if name and record is None:
            near = difflib.get_close_matches(name, [record.name for record in layout.records], 1)
            yield layout.place, f"`content headed by`: there is no record {name}", near[0] if near else f"record {name}"
        elif record is not None:
            for field in record.fields:
                yield from _check_field(layout, record, field)
    tail = layout.record(content.tail)
    if tail is not None and any(field.type.fixed_size is None for field in tail.fields):
        yield tail.place, f"{tail.name} stands behind content, so it is found by its size alone", "fields of fixed size"
    if content.head or content.tail:
        yield from _check_content(layout)


def _check_content(layout: Layout) -> Iterator[Problem]:
    content = layout.content
    cut = any(part.cut is not None and part.name == content.within for part in layout.parts)
    if content.until_next or content.after or cut or any(block.inline for block in layout.blocks):
        yield (
            layout.place,
            "records stand around content that has a start and a size in fields, and lies in no chunks",
            "`start of content` and `stored size of content`",
        )
    for block in layout.blocks:
        for field in block.fields:
            meaning = field.meaning
            plain = isinstance(meaning, ChecksumOf) and meaning.part == "stored content"
            made = isinstance(meaning, Computed) and any(
                of == "stored content" for _, of in sums_over_content(meaning.value)
            )
            if plain or made:
                yield field.place, "a checksum of stored content, around which records stand", "a checksum of content"


def _check_field(layout: Layout, record: Record, field: Field) -> Iterator[Problem]:
    plain = isinstance(field.type, IntegerType | Text | Raw) and not isinstance(field.type, ArrayType)
    if not plain or field.when is not None or field.type.sibling:
        problem = f"`{field.name}` of {record.name} is a plain number, text or bytes, and always there"
        yield field.place, problem, "another type"
    if isinstance(field.meaning, Attribute | ChecksumOf):
        yield field.place, f"`{field.words}` stands here once more: it is an expression", f"is {field.words}"
    elif not isinstance(field.meaning, Computed | Constant | Opaque):
        yield field.place, f"`{field.words}` has no meaning around content", f"is {field.words}, or `kept`"
    if isinstance(field.meaning, Computed):
        yield from _check_value(layout, record, field, field.meaning)


def _check_value(layout: Layout, record: Record, field: Field, meaning: Computed) -> Iterator[Problem]:
    own = [one.name for one in record.fields[: record.fields.index(field)]]
    kept = {
        one.name
        for block in layout.entry_blocks()
        for one in block.fields
        if isinstance(one.meaning, Opaque | Constant)
    }
    kept |= {
        f"{block.name}.{one.name}"
        for block in layout.blocks
        if not block.repeats
        for one in block.fields
        if isinstance(one.meaning, Opaque | Constant)
    }
    for one in walk(meaning.value):
        if isinstance(one, FieldOf) and one.name not in own and one.name not in kept:
            near = difflib.get_close_matches(one.name, [*own, *sorted(kept)], 1)
            problem = f"`{field.words}`: {one.name} is no field before it, and none that is kept"
            yield field.place, problem, near[0] if near else "`size of content`, or a field of this record"
        elif isinstance(one, MeasureOf | BytesOf) or (
            isinstance(one, SumOf) and isinstance(one.of, str) and not one.over_content
        ):
            problem = f"`{field.words}`: what is measured is known only when all contents are placed"
            yield field.place, problem, "`start of content`, `size of content`, a field that is kept"
    if len(set(sums_over_content(meaning.value))) > 1:
        yield field.place, f"`{field.words}` is made of two checksums over content", "one field for each"
    if any(of == "stored content" for _, of in sums_over_content(meaning.value)):
        yield field.place, "a checksum of stored content, around which this record stands", "a checksum of content"


def _is_of_part(one: SumOf) -> bool:
    return isinstance(one.of, str) and not one.over_content
