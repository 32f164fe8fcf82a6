"""What makes one field unsound: its type for its meaning, its changes, its constant."""

from __future__ import annotations

import codecs
from collections.abc import Iterator
from typing import Any

from volvex.codec import CHECKSUM
from volvex.errors import UsageError
from volvex.layout.language.check.siblings import half_of
from volvex.layout.model import (
    CONTENTS,
    RECORD,
    Attribute,
    Bits,
    Block,
    ByteOrder,
    ChecksumOf,
    Constant,
    Described,
    Field,
    Inline,
    IntegerType,
    Layout,
    Measure,
    Number,
    Opaque,
    Place,
    Pool,
    Raw,
    RecordsOf,
    Text,
    Value,
    is_bare,
    pools_of,
)
from volvex.layout.order import group_holder, measures

Problem = tuple[Place, str, str]  # where, what, hint
LARGEST = 1 << 24  # bytes of a field of fixed size


def check_field(layout: Layout, block: Block, field: Field) -> Iterator[Problem]:
    meaning, kind = field.meaning, field.type
    size = kind.fixed_size if kind.in_record else None
    if size is not None and not 1 <= size <= LARGEST:
        yield field.place, f"`{field.name}` has {size:,} bytes: a field has 1 to {LARGEST:,}", "another size"
    if isinstance(kind, Text):
        yield from _check_text(field, kind)
    if field.changes and (
        not isinstance(kind, IntegerType)
        or isinstance(meaning, Opaque | Constant | Described)
        or (isinstance(meaning, ChecksumOf) and any(change.how != "xor" for change in field.changes))
    ):
        yield field.place, f"`{field.name}` is not a number that could be changed by x, plus or xor", "leaving that out"
    yield from _check_relative(layout, block, field)
    for change in field.changes:
        told = change.part == CONTENTS and ("start", CONTENTS) in measures(layout)
        if (
            change.how == "from"
            and not told
            and change.part != RECORD
            and change.part not in {place.name for place in layout.places}
        ):
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
        yield field.place, f"`{field.name}` is {kind}: `byte order` is a field of bytes", "2 bytes"
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


def _check_relative(layout: Layout, block: Block, field: Field) -> Iterator[Problem]:
    """Places that count from where their record starts: of content that lies where the records lie, each told in one
    field."""
    if not any(change.part == RECORD for change in field.changes):
        return
    what = field.meaning.what if isinstance(field.meaning, Attribute) else ""
    if what == "start of next record":
        return
    skipped = block.skip is not None or field.when is not None or block.inline
    if what not in ("start of content", "end of content") or block.within != layout.content.within or skipped:
        yield (
            field.place,
            f"`{field.name}` cannot count from its record",
            "the start or end of content that lies in the same file",
        )
    elif any(change.edge != "start" for change in field.changes if change.part == RECORD):
        yield field.place, "a record ends where that is known only when all its fields are", "from start of record"


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
    if isinstance(kind.prefix, Number) and kind.prefix.signed:
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
    pointing = next((field for field in home.fields if field.name == meaning.part and meaning.what == "length"), None)
    if pointing is not None and layout.block(meaning.part) is None and layout.part(meaning.part) is None:
        yield from _check_pooled(layout, field, pointing)
        return
    block = layout.block(meaning.part)
    if block is not None and meaning.what == "count" and not block.repeats:
        yield field.place, f"{block.name} is one record, it has no count", f"block {block.name} repeats"
    held = any(isinstance(field.meaning, RecordsOf) and field.meaning.block == meaning.part for field in home.fields)
    grouped = block is not None and group_holder(layout, block) is home
    if grouped and block is not None:
        yield from _check_group(layout, field, home, block)
    elif home.repeats and not (held and meaning.what == "count"):
        yield (
            field.place,
            f"each record of {home.name} would hold the {meaning.what} of {meaning.part}",
            "a block that does not repeat",
        )


def _check_group(layout: Layout, field: Field, home: Block, block: Block) -> Iterator[Problem]:
    """A record that stores where a group of another block's records lies: those of a folder."""
    if field.meaning != Measure("start", block.name):
        return  # what follows is told once
    whats = {
        field.meaning.what
        for field in home.fields
        if isinstance(field.meaning, Measure) and field.meaning.part == block.name
    }
    if bool(block.transforms) != ("stored length" in whats):
        yield (
            field.place,
            f"groups of {block.name} are wrapped and their stored length is in {home.name}, or neither",
            f"u32  stored length of {block.name}",
        )
    if not whats & {"count", "length", "end"}:
        yield (
            field.place,
            f"no field of {home.name} gives how many records of {block.name} lie there",
            f"count of {block.name}",
        )
    rows = block in layout.entry_blocks() and home in layout.rooted("folder")
    if (
        not rows
        or not block.repeats
        or block.at
        or block.along
        or block.inline
        or block.skip
        or block.within != home.within
    ):
        yield (
            field.place,
            f"groups of {block.name} are the entries of a folder each, and nothing else gives their place",
            f"a `folder name` in {home.name}, and block {block.name} repeats",
        )
    for other in layout.blocks:
        at = other.at.after if other.at is not None else ""
        if at == block.name or other.along == block.name:
            yield other.place, f"{block.name} lies in groups: nothing can be found by it", "another place"
        for one in other.fields:
            from_it = any(change.part == block.name for change in one.changes)
            summed = isinstance(one.meaning, ChecksumOf) and block.name in one.meaning.parts
            if (
                from_it
                or summed
                or (isinstance(one.meaning, Measure) and one.meaning.part == block.name and other is not home)
            ):
                yield (
                    one.place,
                    f"{block.name} lies in groups: `{one.words or one.name}` cannot mean all of them",
                    "`kept`",
                )


def _check_pooled(layout: Layout, field: Field, pointing: Field) -> Iterator[Problem]:
    """The length of a text in a pool: only a pool of bytes needs it, and each that points there."""
    wanted = pointing.meaning.pool if isinstance(pointing.meaning, Value) else ""
    pools = {name: pool for name, pool in pools_of(layout).items() if not wanted or name == wanted}
    if not any(is_bare(pool) for pool in pools.values()):
        yield field.place, f"the texts of {wanted or 'the pool'} have ends of their own", "a pool of `u8`, or `kept`"
