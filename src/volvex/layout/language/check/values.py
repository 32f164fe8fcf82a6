"""What makes an expression unsound: fields that are not there, facts where there are none, circles, types that do not
fit."""

from __future__ import annotations

import difflib
from collections.abc import Iterator

from volvex.codec import CHECKSUM
from volvex.layout.expression import (
    BytesOf,
    Expression,
    FactOf,
    FieldOf,
    Literal,
    Made,
    MeasureOf,
    NameOf,
    SumOf,
    sums_over_content,
    walk,
)
from volvex.layout.model import (
    ArrayType,
    Attribute,
    Block,
    Computed,
    Constant,
    Field,
    IntegerType,
    Layout,
    Measure,
    Opaque,
    Place,
    Raw,
    Text,
)
from volvex.layout.order import asked_field, computed_order, covers, group_holder

Problem = tuple[Place, str, str]  # where, what, hint
NUMBER, BYTES = "a number", "bytes or a text"
WITH_CONTENT = ("size of content", "stored size of content", "codec of content")
GATHERING = ("total", "smallest", "largest", "at")


def check_values(layout: Layout) -> Iterator[Problem]:
    """What is wrong with the expressions of a layout."""
    for block in layout.blocks:
        for field in block.fields:
            if isinstance(field.meaning, Computed):
                yield from _check_field(layout, block, field, field.meaning.value)
        own = [field for field in block.fields if covers(field, block.name)]
        for field in own[1:]:
            yield field.place, f"two checksums over {block.name} in it: each would cover the other", "`kept` for one"
    for told in layout.told:
        yield from _check_told(layout, told.fact, told.value, told.place)
    circle = computed_order(layout)[1]
    if circle:
        names = " -> ".join(f"{block.name}.{field.name}" for block, field in circle)
        yield circle[0][1].place, f"these are made of each other, in a circle: {names}", "`kept` for one of them"


def _check_field(layout: Layout, block: Block, field: Field, value: Expression) -> Iterator[Problem]:
    entries = block in layout.entry_blocks()
    for problem, hint in _problems(layout, block, value, entries):
        yield field.place, f"`{field.words}`: {problem}", hint
    kind = _kind(layout, block, value)
    if isinstance(field.type, IntegerType) and kind == BYTES:
        yield field.place, f"`{field.words}` gives bytes, `{field.name}` is {field.type}", "a text, or `crc32 of` it"
    elif isinstance(field.type, Text) and kind == NUMBER:
        yield field.place, f"`{field.words}` gives a number, `{field.name}` is {field.type}", "u32, or digits 8"
    elif isinstance(field.type, Raw) and kind == NUMBER and not _is_digest(value, field.type.size):
        yield field.place, f"`{field.words}` gives a number, `{field.name}` is {field.type}", "u32"
    elif not isinstance(field.type, IntegerType | Text | Raw):
        yield field.place, f"`{field.name}` is {field.type}, which no expression gives", "a number, a text or bytes"
    if field.type.uses == "bits" and block.inline and covers(field, block.name):
        yield field.place, "a checksum over a row with its content stands in no bits", "a field of its own"
    if sums_over_content(value):
        if not entries:
            yield field.place, f"`{field.words}`: {block.name} has no entries, whose content that could be", "`kept`"
        yield from _check_over_content(layout, block, field, value)
    if block.repeats and covers(field, block.name):
        yield field.place, f"each record of {block.name} would hold a checksum over all of them", "a block of its own"
    if group_holder(layout, block) is not None:
        yield field.place, f"{block.name} lies in groups: `{field.words}` cannot be made there", "`kept`"


def _is_digest(value: Expression, size: int) -> bool:
    return isinstance(value, SumOf) and CHECKSUM.get(value.algorithm).bits == 8 * size


def _check_over_content(layout: Layout, block: Block, field: Field, value: Expression) -> Iterator[Problem]:
    """Content that does not change is not read for writing: what is made of it must stay as it is."""
    if len(set(sums_over_content(value))) > 1:
        yield field.place, f"`{field.words}` is made of two checksums over content", "one field for each"
    moving = [one for one in walk(value) if isinstance(one, FactOf | MeasureOf | NameOf | BytesOf)]
    asked = [asked_field(layout, block, one.name) for one in walk(value) if isinstance(one, FieldOf)]
    if any(one is not None and not _stays(one) for one in asked):
        yield (
            field.place,
            f"`{field.words}`: a field in it may change while the content does not",
            "fields that are kept",
        )
    if moving:
        yield (
            field.place,
            f"`{field.words}`: where content lies may change while its checksum is not read again",
            "only numbers and fields of its record beside a checksum over content",
        )


def _stays(field: Field) -> bool:
    """Whether a field keeps its value as long as the content of its entry stays."""
    meaning = field.meaning
    of_content = isinstance(meaning, Attribute) and meaning.what in WITH_CONTENT
    return of_content or isinstance(meaning, Opaque | Constant)


def _check_told(layout: Layout, fact: Attribute | Measure, value: Expression, place: Place) -> Iterator[Problem]:
    if isinstance(fact, Measure):
        holders = [field for block in layout.blocks for field in block.fields if field.meaning == fact]
        block = None
    else:
        entries = layout.entry_blocks()
        block = entries[0] if entries else None
        holders = [field for home in entries for field in home.fields if field.meaning == fact]
    words = f"{fact.what} of {fact.part}" if isinstance(fact, Measure) else fact.what
    if holders:
        yield place, f"`{words}` is given twice: here and by `{holders[0].name}`", f"`{holders[0].name}` as kept"
    if sum(told.fact == fact for told in layout.told) > 1:
        yield place, f"what `{words}` reads as is given twice", "one of the two lines"
    for problem, hint in _problems(layout, block, value, block is not None):
        yield place, f"`{words} reads as`: {problem}", hint
    if any(isinstance(one, NameOf) for one in walk(value)) or sums_over_content(value):
        yield place, f"`{words}` cannot be found from names or content, which are found by it", "fields"
    if _kind(layout, block, value) == BYTES:
        yield place, f"`{words}` is a number, and this gives bytes", "a number"


def _problems(
    layout: Layout, block: Block | None, value: Expression, entries: bool, gathered: bool = False
) -> Iterator[tuple[str, str]]:
    if isinstance(value, FieldOf):
        yield from _check_asked(layout, block, value.name, gathered)
    elif isinstance(value, FactOf | NameOf) and not entries:
        what = value.what if isinstance(value, FactOf) else "name"
        yield f"{what} is known of entries, and this is not in one of their records", "a field of the entries' block"
    elif isinstance(value, SumOf):
        yield from _check_sum(layout, block, value, entries)
    elif isinstance(value, Made):
        for number, one in enumerate(value.operands):
            inner = gathered or (value.how in GATHERING and number == 0)
            yield from _problems(layout, block, one, entries, inner)
        if value.how in ("previous", "next") and (block is None or not block.repeats):
            yield f"there is no {value.how} record of a single one", "a field of a block that repeats"
        yield from _check_operands(layout, block, value)
    elif isinstance(value, MeasureOf) and value.what == "count":
        home = layout.block(value.part)
        if home is not None and not home.repeats:
            yield f"{value.part} is one record, it has no count", f"block {value.part} repeats"


def _check_operands(layout: Layout, block: Block | None, value: Made) -> Iterator[tuple[str, str]]:
    kinds = [_kind(layout, block, one) for one in value.operands]
    if value.how == "length":
        if kinds[0] == NUMBER:
            yield "only a text or bytes have a length", "`length of name`"
    elif value.how in ("is", "is not", "if"):
        own = kinds[1:] if value.how == "if" else kinds
        if len(set(own)) > 1:
            yield "a number and bytes are never the same", "two of one kind"
    elif value.how not in ("previous", "next", "at", "total", "smallest", "largest") and BYTES in kinds:
        yield f"`{value.how}` takes numbers, and not bytes", "`length of` or `crc32 of` it"


def _check_asked(layout: Layout, block: Block | None, name: str, gathered: bool) -> Iterator[tuple[str, str]]:
    asked = asked_field(layout, block, name)
    if asked is None:
        known = [field.name for field in block.fields] if block is not None else []
        known += [f"{home.name}.{field.name}" for home in layout.blocks for field in home.fields]
        near = difflib.get_close_matches(name, known, 1)
        yield f"there is no field {name}", near[0] if near else "`head.version`, or a field of the same record"
        return
    home = next(home for home in layout.blocks if asked in home.fields)
    along = block is not None and layout.root(home) is layout.root(block)
    if home.repeats and home is not block and not along and not gathered:
        yield f"{home.name} has many records", f"`{name} at 0`, or `total of {name}`"
    if any(change.part == "record" for change in asked.changes):
        yield f"{name} counts from its own record", "`start of content`"
    if not isinstance(asked.type, IntegerType | Text | Raw) or isinstance(asked.type, ArrayType):
        yield f"{name} is {asked.type}, which is no number, text or bytes", "another field"


def _check_sum(layout: Layout, block: Block | None, value: SumOf, entries: bool) -> Iterator[tuple[str, str]]:
    if not isinstance(value.of, str):
        yield from _problems(layout, block, value.of, entries)
        if _kind(layout, block, value.of) == NUMBER:
            yield f"{value.algorithm} is over bytes, and this is a number", "a text, bytes or a block"


def _kind(layout: Layout, block: Block | None, value: Expression) -> str:
    """Whether an expression gives a number or bytes."""
    if isinstance(value, Literal):
        return BYTES if isinstance(value.value, bytes) else NUMBER
    if isinstance(value, NameOf | BytesOf):
        return BYTES
    if isinstance(value, FieldOf):
        asked = asked_field(layout, block, value.name)
        return BYTES if asked is not None and isinstance(asked.type, Text | Raw) else NUMBER
    if isinstance(value, Made) and value.how in ("if", "at", "previous", "next"):
        return _kind(layout, block, value.operands[1 if value.how == "if" else 0])
    return NUMBER
