"""Is a layout sound, and can it be written? Everything that can be said before a file is read."""

from __future__ import annotations

import difflib
from collections.abc import Iterator

from volvex.errors import LayoutError, ManyErrors, VolvexError
from volvex.layout.kinds import kind_of
from volvex.layout.language.check.fields import check_field
from volvex.layout.language.check.places import check_at, check_part, check_places, check_starts
from volvex.layout.language.check.rows import check_rows, without_rows
from volvex.layout.language.check.siblings import check_condition, check_own_condition, check_siblings
from volvex.layout.language.check.values import check_values
from volvex.layout.model import (
    CONTENTS,
    ArrayType,
    Attribute,
    Block,
    ChecksumOf,
    Condition,
    Inline,
    InlineBytes,
    IntegerType,
    Layout,
    Number,
    Opaque,
    Part,
    Place,
    Placing,
    Raw,
    RecordsOf,
    Text,
    Value,
)
from volvex.layout.order import group_holder, grows, is_of_names

Problem = tuple[Place, str, str]  # where, what, hint
LARGEST_RECORD = 1 << 26  # bytes of fields of fixed size
MOST = 6  # mistakes that are shown


def check_layout(layout: Layout) -> None:
    """Nothing when the layout is sound; otherwise all its faults at once, each at its line."""
    problems = list(_problems(layout)) or list(check_places(layout))
    shown = sorted(problems, key=lambda found: (found[0].line, found[0].column))
    errors: list[VolvexError] = [
        LayoutError(layout.file, place.line, place.column, problem, hint=hint)
        for place, problem, hint in shown[: MOST - 1 if len(shown) > MOST else MOST]
    ]
    if len(shown) > MOST:
        place = shown[MOST - 1][0]
        more = f"and {len(shown) - MOST + 1} more mistakes, which may come from those before"
        errors.append(
            LayoutError(layout.file, place.line, place.column, more, hint="mending the first, and checking again")
        )
    if len(errors) == 1:
        raise errors[0]
    if errors:
        raise ManyErrors(errors)


def _problems(layout: Layout) -> Iterator[Problem]:
    kind = kind_of(layout.kind)
    assert kind is not None  # the parser refuses others
    if not layout.blocks:
        yield layout.place, "a layout needs at least one block", "block head at 0"
    yield from _repeated([(place.name, place.place) for place in layout.places], "block or part")
    yield from check_rows(layout)
    layout = without_rows(layout)
    yield from _repeated([(record.name, record.place) for record in layout.records], "record")
    for part in layout.parts:
        yield from check_part(layout, part)
    for block in layout.blocks:
        if block.name in ("file", "content", "name", "record", CONTENTS):
            yield block.place, f"a block cannot be called {block.name}", "another name"
        if block.within and layout.part(block.within) is None:
            yield (
                block.place,
                f"there is no part {block.within} for {block.name} to be in",
                f"part {block.within} wrapped in ...",
            )
        yield from _repeated([(field.name, field.place) for field in block.fields], "field")
        size = sum(field.type.fixed_size or 0 for field in block.fields if field.type.in_record)
        if size > LARGEST_RECORD:
            yield block.place, f"the records of {block.name} have {size:,} bytes", f"at most {LARGEST_RECORD:,}"
        yield from _check_sorting(layout, block)
        yield from _check_along(layout, block)
        yield from _check_skipped(layout, block)
        yield from _check_inline(layout, block)
        if block.transforms and group_holder(layout, block) is None:
            yield (
                block.place,
                f"{block.name} is wrapped by itself only where it lies in groups",
                "a part that is wrapped",
            )
        yield from check_condition(layout, block.when, None, block.place)
        for number, field in enumerate(block.fields):
            yield from check_field(layout, block, field)
            yield from check_siblings(block.fields, number)
            yield from check_condition(layout, field.when, block, field.place)
    for record in layout.records:
        for number, field in enumerate(record.fields):
            yield from check_siblings(record.fields, number)
            yield from check_own_condition(record.fields, field)
    for placing in layout.content.others:
        yield from _check_placing(layout, placing)
    yield from _check_facts(layout)
    yield from check_values(layout)
    yield from check_starts(layout)
    yield from check_at(layout)
    yield from kind.check(layout)


def _check_placing(layout: Layout, placing: Placing) -> Iterator[Problem]:
    for test in placing.when.tests:
        yield from _check_placed(layout, test)


def _check_placed(layout: Layout, when: Condition) -> Iterator[Problem]:
    if when.how == "ends":
        if when.field != "name":
            yield layout.place, f"`when {when}`: only a name ends in something", 'when name ends ".png"'
        return
    fields = [(field, block) for block in layout.entry_blocks() for field in block.fields if field.name == when.field]
    if not fields or not isinstance(fields[0][0].type, IntegerType):
        yield (
            layout.place,
            f"`content when {when}`: the entries have no number {when.field}",
            "a field of the entries' records",
        )


def _check_inline(layout: Layout, block: Block) -> Iterator[Problem]:
    """Content within a row of records: behind the last field of each."""
    for field in block.fields:
        if isinstance(field.meaning, RecordsOf):
            if not isinstance(field.type, ArrayType) or not block.repeats:
                yield (
                    field.place,
                    f"the records of {field.meaning.block} lie in those of a repeating block",
                    "bytes  " + field.words,
                )
            continue
        if isinstance(field.type, InlineBytes) != isinstance(field.meaning, Inline):
            yield (
                field.place,
                f"`{field.name}` is {field.type} with the meaning `{field.words}`; content that lies here is both",
                "bytes  content",
            )
        elif isinstance(field.meaning, Inline) and (field is not block.fields[-1] or not block.repeats):
            yield field.place, "content lies behind the other fields of a repeating block", "moving it to the end"
    if not block.inline:
        return
    for one in block.fields:
        if one.when is not None and isinstance(one.meaning, Attribute) and one.meaning.what.endswith("size of content"):
            yield (
                one.place,
                f"`{one.name}` gives the start of the next record, so it cannot depend on something",
                "leaving `when` out",
            )
    if not any(
        isinstance(field.meaning, Attribute) and field.meaning.what.endswith("size of content")
        for field in block.fields
    ):
        yield (
            block.place,
            f"no field of {block.name} gives the length of the content that follows",
            "a field with the meaning `size of content`",
        )
    if block.along or block.sorted_by or any(other.along == block.name for other in layout.blocks):
        yield (
            block.place,
            "records that are followed by their content stand in no other order, and with no other block",
            "",
        )
    for home in layout.blocks:
        for one in home.fields:
            meaning = one.meaning
            several = isinstance(meaning, ChecksumOf) and len(meaning.parts) > 1 and block.name in meaning.parts
            if several or (isinstance(meaning, ChecksumOf) and meaning.part == block.name and home is block):
                yield (
                    one.place,
                    f"`{one.words}`: {block.name} holds content, so its checksum stands alone in a block behind or "
                    f"before it",
                    f"crc32 of {block.name}",
                )


def _check_along(layout: Layout, block: Block) -> Iterator[Problem]:
    for name, what in ((block.at.after if block.at else "", "start behind"), (block.along, "repeat with")):
        other: Block | Part | None = layout.block(name) if name else None
        if what == "start behind" and name and other is None:
            other = layout.part(name)
        if name and (other is None or other is block):
            near = difflib.get_close_matches(name, [one.name for one in layout.blocks if one is not block], 1)
            yield (
                block.place,
                f"{block.name} cannot {what} {name}: there is no such block",
                near[0] if near else "the name of another block",
            )
        elif block.along and what == "repeat with" and isinstance(other, Block) and not other.repeats:
            yield block.place, f"{name} is one record, {block.name} cannot repeat with it", f"block {name} repeats"


def _check_skipped(layout: Layout, block: Block) -> Iterator[Problem]:
    """Records that are no entries: of a row of entries that stands alone."""
    if block.skip is None:
        return
    tied = block.along or block.inline or any(other.along == block.name for other in layout.blocks)
    if block not in layout.entry_blocks() or tied or grows(block):
        yield (
            block.place,
            f"the records of {block.name} are no entries of which some could be left out",
            "a row of entries with no other block beside it",
        )
    for test in block.skip.tests:
        field = next((field for field in block.fields if field.name == test.field), None)
        if field is None or not isinstance(field.type, IntegerType | Raw | Text):
            yield (
                block.place,
                f"`except {test}`: {block.name} has no number or text {test.field}",
                "a field of the same record",
            )
        elif isinstance(test.value, bytes) != isinstance(field.type, Raw | Text):
            yield (
                block.place,
                f"`except {test}`: `{field.name}` is {field.type}",
                "a number for a number, a text in quotes for bytes and texts",
            )


def _check_sorting(layout: Layout, block: Block) -> Iterator[Problem]:
    if block.sorted_by is None:
        return
    by = next((field for field in block.fields if field.name == block.sorted_by), None)
    if by is None or not block.repeats:
        problem = (
            f"{block.name} has no field {block.sorted_by}"
            if block.repeats
            else f"{block.name} is one record, it has no order"
        )
        yield block.place, problem, "sorted by the field that the game searches"
    elif (
        not isinstance(by.type, Number | Text)
        or not (isinstance(by.meaning, Attribute | Opaque | ChecksumOf | Value) or is_of_names(by))
        or by.when
    ):
        yield by.place, f"records cannot be sorted by `{by.name}`", "a name or a number that belongs to the entry"


def _repeated(names: list[tuple[str, Place]], what: str) -> Iterator[Problem]:
    seen = set()
    for name, place in names:
        if name in seen:
            yield place, f"there is a {what} {name} already", "another name"
        seen.add(name)


def _check_facts(layout: Layout) -> Iterator[Problem]:
    kind, seen = kind_of(layout.kind), set()
    assert kind is not None
    for block in layout.blocks:
        for field in block.fields:
            single = isinstance(field.meaning, Attribute) and field.meaning.what in getattr(kind, "SINGLE", ())
            per_entry = (isinstance(field.meaning, Attribute) and not single) or (
                isinstance(field.meaning, ChecksumOf) and field.meaning.part in kind.PARTS
            )
            if per_entry and not block.repeats:
                yield (
                    field.place,
                    f"`{field.words}` is about each entry, but {block.name} is one record",
                    f"block {block.name} repeats",
                )
            if not isinstance(field.meaning, Attribute) or field.meaning.upper:
                continue
            what = field.meaning.what
            own = (block.name, what) if what in getattr(kind, "EACH_BLOCK", ()) else ("", what)
            if own in seen and not (field.when or block.when):
                yield field.place, f"a second field for the {what}", "`kept`"
            seen.add(own)
            if not isinstance(field.type, kind.ATTRIBUTES[what]):
                types = kind.ATTRIBUTES[what]
                wanted = "text" if Text in types and IntegerType not in types else "a number"
                yield field.place, f"the {what} is {wanted}, `{field.name}` is {field.type}", ""
            if field.meaning.table == () and what in kind.TABLED and not isinstance(field.type, Text):
                yield (
                    field.place,
                    f"`{field.name}` has no table of its numbers",
                    f"{what} {{ 0 ..., 1 ... }}",
                )
    for what in kind.NEEDS:
        if ("", what) not in seen:
            yield layout.place, f"no field gives the {what}", f"a field with the meaning `{what}`"
