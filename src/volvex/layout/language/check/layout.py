"""Is a layout sound, and can it be written? Everything that can be said before a file is read."""

from __future__ import annotations

import codecs
import difflib
from collections.abc import Iterator
from typing import Any

from volvex.codec import CHECKSUM, CIPHER, COMPRESS
from volvex.codec.parameters import Spec
from volvex.errors import LayoutError, ManyErrors, UsageError, VolvexError
from volvex.layout.kinds import kind_of
from volvex.layout.language.check.siblings import check_condition, check_own_condition, check_siblings, half_of
from volvex.layout.model import (
    CONTENTS,
    ArrayType,
    Attribute,
    Bits,
    Block,
    ByteOrder,
    ChecksumOf,
    Condition,
    Constant,
    Described,
    Field,
    Inline,
    InlineBytes,
    IntegerType,
    Layout,
    Measure,
    Number,
    Opaque,
    Part,
    Place,
    Placing,
    Pool,
    Raw,
    RecordsOf,
    Text,
    Value,
    is_bare,
    pools_of,
)
from volvex.layout.order import grows, measures, reading_order
from volvex.layout.transforms import keeps_size, tried

Problem = tuple[Place, str, str]  # where, what, hint
MOST = 6  # mistakes that are shown


def check_layout(layout: Layout) -> None:
    """Nothing when the layout is sound; otherwise all its faults at once, each at its line."""
    problems = list(_problems(layout)) or list(_check_places(layout))
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
    yield from _repeated([(record.name, record.place) for record in layout.records], "record")
    for part in layout.parts:
        yield from _check_part(layout, part)
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
        yield from _check_sorting(layout, block)
        yield from _check_along(layout, block)
        yield from _check_skipped(layout, block)
        yield from _check_inline(layout, block)
        yield from check_condition(layout, block.when, None, block.place)
        for field in block.fields:
            yield from _check_field(layout, block, field)
            yield from check_siblings(block.fields, field)
            yield from check_condition(layout, field.when, block, field.place)
    for record in layout.records:
        for field in record.fields:
            yield from check_siblings(record.fields, field)
            yield from check_own_condition(record.fields, field)
    for placing in layout.content.others:
        yield from _check_placing(layout, placing)
    yield from _check_facts(layout)
    yield from _check_starts(layout)
    yield from _check_at(layout)
    yield from kind.check(layout)


def _check_part(layout: Layout, part: Part) -> Iterator[Problem]:
    lengths = {
        field.meaning.what
        for block in layout.blocks
        for field in block.fields
        if isinstance(field.meaning, Measure) and field.meaning.part == part.name
    }
    if part.reach is None and part.cut is None and not lengths & {"length", "stored length", "end"}:
        yield (
            part.place,
            f"no field gives the length of {part.name}",
            f"a field with the meaning `stored length of {part.name}`, or `until end`",
        )
    if part.reach is not None and part.reach.to == "records" and not all(keeps_size(one) for one in part.transforms):
        yield (
            part.place,
            f"{part.name} is as long as its records only where ciphers keep the size",
            "a field that measures it",
        )
    for transform in part.transforms:
        if transform.name not in CIPHER and transform.name not in COMPRESS:
            known = ", ".join((*CIPHER.names(), *COMPRESS.names()))
            yield transform.place, f"there is no cipher and no compression called {transform.name}", f"one of {known}"
        elif transform.derived:
            yield transform.place, f"{part.name} is no entry: its key cannot come `from` one", "key hex 4b 57"
        else:
            try:
                (CIPHER if transform.name in CIPHER else COMPRESS).make(Spec(transform.name, tried(transform).given))  # type: ignore[arg-type]
            except UsageError as error:
                yield transform.place, error.message, error.hint
    if not any(block.within == part.name for block in layout.blocks) and layout.content.within != part.name:
        yield part.place, f"nothing lies in {part.name}", f"block ... in {part.name} at 0"


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
                f"`{one.name}` says where the next record starts, so it cannot depend on something",
                "leaving `when` out",
            )
    if not any(
        isinstance(field.meaning, Attribute) and field.meaning.what.endswith("size of content")
        for field in block.fields
    ):
        yield (
            block.place,
            f"no field of {block.name} says how long the content is that follows",
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
            if getattr(meaning, "part", None) == block.name and not (
                isinstance(meaning, Measure) and meaning.what != "length"
            ):
                yield (
                    one.place,
                    f"`{one.words}`: records that are followed by their content have no {getattr(meaning, 'what', 'checksum')}",
                    "`kept`",
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
        or not isinstance(by.meaning, Attribute | Opaque | ChecksumOf | Value)
        or by.when
    ):
        yield by.place, f"records cannot be sorted by `{by.name}`", "a name or a number that belongs to the entry"


def _repeated(names: list[tuple[str, Place]], what: str) -> Iterator[Problem]:
    seen = set()
    for name, place in names:
        if name in seen:
            yield place, f"there is a {what} {name} already", "another name"
        seen.add(name)


def _check_field(layout: Layout, block: Block, field: Field) -> Iterator[Problem]:
    meaning, kind = field.meaning, field.type
    if isinstance(kind, Text):
        yield from _check_text(field, kind)
    if field.changes and (
        not isinstance(kind, IntegerType)
        or isinstance(meaning, Opaque | Constant | Described)
        or (isinstance(meaning, ChecksumOf) and any(change.how != "xor" for change in field.changes))
    ):
        yield field.place, f"`{field.name}` is not a number that could be changed by x, plus or xor", "leaving that out"
    for change in field.changes:
        told = change.part == CONTENTS and ("start", CONTENTS) in measures(layout)
        if change.how == "from" and not told and change.part not in {place.name for place in layout.places}:
            yield (
                field.place,
                f"`from {change.edge} of {change.part}`: there is no such block or part",
                "the name of a block or part",
            )
    if field.when is not None and isinstance(meaning, ChecksumOf | Inline | RecordsOf | Pool):
        yield field.place, f"`{field.words}` cannot depend on something", "`when` on the block"
    if isinstance(meaning, Described) and not isinstance(kind, Number):
        yield field.place, f"`{field.name}` is {kind}: only a number's bits are described by other fields", "kept"
    if isinstance(meaning, Opaque) and meaning.table and not isinstance(kind, IntegerType):
        yield field.place, f"`{field.name}` is {kind}, the words in braces stand for numbers", "leaving them out"
    if isinstance(meaning, ByteOrder) and not isinstance(kind, Raw):
        yield field.place, f"`{field.name}` is {kind}: the order of bytes is told by bytes", "2 bytes"
    if getattr(meaning, "upper", False):
        yield from _check_upper(block, field, meaning)
    if isinstance(meaning, Constant):
        yield from _check_constant(field, meaning.value)
    elif isinstance(meaning, Measure):
        yield from _check_measure(layout, field, meaning)
    elif isinstance(meaning, ChecksumOf):
        bits = _checksum_bits(meaning.algorithm)
        fits = (isinstance(kind, Number) and not kind.signed and kind.bits == bits) or kind == Raw(bits // 8)
        if not fits:
            wanted = f"u{bits}" if bits <= 64 else f"{bits // 8} bytes"
            yield field.place, f"{meaning.algorithm} has {bits} bits, `{field.name}` is {kind}", wanted


def _checksum_bits(algorithm: str) -> int:
    try:
        return CHECKSUM.get(algorithm).bits
    except UsageError:
        return 0


def _check_upper(block: Block, field: Field, meaning: Any) -> Iterator[Problem]:
    """The lower bits stand in a field of the same record with the same meaning."""
    if not isinstance(field.type, Number | Bits) or field.changes:
        yield field.place, f"`{field.name}` holds upper bits, so it is a plain number", "u8"
    if half_of(block, meaning, True) is not field or half_of(block, meaning, False) is None:
        yield (
            field.place,
            f"no field of {block.name} holds the lower bits",
            f"u32  {field.words.removeprefix('upper ')}",
        )


def _check_text(field: Field, kind: Text) -> Iterator[Problem]:
    if kind.prefix is not None and kind.prefix.signed:
        yield field.place, f"the length of `{field.name}` cannot be negative", f"u{kind.prefix.bits}"
    if kind.ending not in (0, 1, 2, 4):
        yield (
            field.place,
            f"text that ends at a zero cannot be in {codecs.lookup(kind.encoding).name}",
            f"{kind.encoding}-le",
        )


def _check_constant(field: Field, value: bytes | int) -> Iterator[Problem]:
    if isinstance(field.type, Number):
        low, high = field.type.limits
        if not isinstance(value, int) or not low <= value <= high:
            yield field.place, f"{value!r} does not fit {field.type}", f"a number from {low} to {high}"
    elif isinstance(field.type, Raw):
        if not isinstance(value, bytes) or len(value) != field.type.size:
            yield field.place, f"{value!r} is not {field.type.size} bytes", ""
    else:
        yield (
            field.place,
            "a text cannot be a constant",
            f"{len(value) if isinstance(value, bytes) else 4} bytes  is ...",
        )


def _check_measure(layout: Layout, field: Field, meaning: Measure) -> Iterator[Problem]:
    if not isinstance(field.type, IntegerType):
        yield field.place, f"`{field.name}` measures something, so it is a number, not {field.type}", "u32"
    home = next(home for home in layout.blocks if field in home.fields)
    if any(one.type.uses == "length" and one.type.sibling == field.name for one in home.fields):
        return
    pointing = next((one for one in home.fields if one.name == meaning.part and meaning.what == "length"), None)
    if pointing is not None and layout.block(meaning.part) is None and layout.part(meaning.part) is None:
        yield from _check_pooled(layout, field, pointing)
        return
    block = layout.block(meaning.part)
    if block is not None and meaning.what == "count" and not block.repeats:
        yield field.place, f"{block.name} is one record, it has no count", f"block {block.name} repeats"
    held = any(isinstance(field.meaning, RecordsOf) and field.meaning.block == meaning.part for field in home.fields)
    if home.repeats and not (held and meaning.what == "count"):
        yield (
            field.place,
            f"each record of {home.name} would hold the {meaning.what} of {meaning.part}",
            "a block that does not repeat",
        )


def _check_pooled(layout: Layout, field: Field, pointing: Field) -> Iterator[Problem]:
    """The length of a text in a pool: only a pool of bytes needs it, and each that points there."""
    wanted = pointing.meaning.pool if isinstance(pointing.meaning, Value) else ""
    pools = {name: pool for name, pool in pools_of(layout).items() if not wanted or name == wanted}
    if not any(is_bare(pool) for pool in pools.values()):
        yield field.place, f"the texts of {wanted or 'the pool'} have ends of their own", "a pool of `u8`, or `kept`"


def _check_facts(layout: Layout) -> Iterator[Problem]:
    kind, seen = kind_of(layout.kind), set()
    assert kind is not None
    for block in layout.blocks:
        for field in block.fields:
            per_entry = isinstance(field.meaning, Attribute) or (
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
            if what in seen and not (field.when or block.when):
                yield field.place, f"a second field for the {what}", "`kept`"
            seen.add(what)
            if not isinstance(field.type, kind.ATTRIBUTES[what]):
                wanted = "text" if Text in kind.ATTRIBUTES[what] else "a number"
                yield field.place, f"the {what} is {wanted}, `{field.name}` is {field.type}", ""
            if field.meaning.table == () and what in kind.TABLED and not isinstance(field.type, Text):
                yield (
                    field.place,
                    f"`{field.name}` does not say what its numbers stand for",
                    f"{what} {{ 0 ..., 1 ... }}",
                )
    for what in kind.NEEDS:
        if what not in seen:
            yield layout.place, f"no field gives the {what}", f"a field with the meaning `{what}`"


def _check_at(layout: Layout) -> Iterator[Problem]:
    """Places that cannot be: not at the multiple that the block asks for, or too near to the end."""
    for place in layout.places:
        at = place.at
        if at is None or at.mark or at.after:
            continue
        within = isinstance(place, Block) and (
            place.within or place.inline
        )  # of a row only the records behind the first are aligned
        if at.fixed and at.offset % place.align and not within:
            yield (
                place.place,
                f"{place.name} is at {at.offset}, which is no multiple of {place.align}",
                f"at {at.offset - at.offset % place.align}, or another align",
            )
        least = (
            sum(field.type.min_size for field in place.fields if field.when is None)
            if isinstance(place, Block) and not place.repeats
            else 0
        )
        if at.from_end and least > at.offset:
            yield (
                place.place,
                f"{place.name} has {least} bytes, and starts {at.offset} before the end",
                f"at end - {least}",
            )
    for number, one in enumerate(layout.known):
        for other in layout.known[:number]:
            if one.names or other.names:
                continue
            together = any(a.startswith(b) or b.startswith(a) for a in one.values for b in other.values)
            if one.at == other.at and not together:
                yield (
                    layout.place,
                    f"no file is known by {one.value!r} and by {other.value!r} at the same place",
                    "one of the two",
                )


def _check_places(layout: Layout) -> Iterator[Problem]:
    """Places that depend on each other in a circle: told when all else is right, since most of them come from other mistakes."""
    found = {one.name for one in reading_order(layout)}
    for place in layout.places:
        if place.name not in found:
            yield (
                place.place,
                f"where {place.name} is can only be known after it was read",
                f"`block {place.name} at ...`",
            )


def _check_starts(layout: Layout) -> Iterator[Problem]:
    """Every block has a place, and every row of records an end."""
    found = {one.name for one in reading_order(layout)}
    known = measures(layout)
    for place in layout.places:
        if place.name not in found and place.at is None and not known.get(("start", place.name)):
            yield (
                place.place,
                f"no field gives the start of {place.name}",
                f"`at 0`, or a field with the meaning `start of {place.name}`",
            )
    for block in layout.blocks:
        count = (
            block.along
            or known.get(("count", block.name))
            or known.get(("length", block.name))
            or known.get(("end", block.name))
            or grows(block)
        )
        if block.repeats and not count and block.until is None:
            yield (
                block.place,
                f"no field gives the count of {block.name}",
                f"a field with the meaning `count of {block.name}`",
            )
