"""Is a layout sound, and can it be written? Everything that can be said before a file is read."""

from __future__ import annotations

import codecs
import difflib
from collections.abc import Iterator
from typing import Any

from volvex.codec import SEAL
from volvex.errors import LayoutError, ManyErrors, UsageError, VolvexError
from volvex.layout.kinds import kind_of
from volvex.layout.model import (
    Block,
    Constant,
    Fact,
    Field,
    Here,
    Inline,
    Kept,
    Layout,
    Meaning,
    Measure,
    Number,
    Place,
    Pool,
    Raw,
    SealOf,
    Text,
)  # fmt: skip

Problem = tuple[Place, str, str]  # where, what, hint


def meaning_of(kind: str, words: str, blocks: list[str], table: Any, file: str, place: Place) -> Meaning:
    """What a phrase such as `count of directory` means in a layout of that kind; LayoutError when nothing."""
    algorithm, _, part = words.partition(" of ")
    found = _phrases(kind, blocks).get(words)
    if found is None and part in (*blocks, *_parts(kind)) and " " not in algorithm:
        if algorithm in SEAL:
            found = SealOf(algorithm, part)
        elif difflib.get_close_matches(algorithm, SEAL.names(), 1):
            seals = ", ".join(SEAL.names())
            raise LayoutError(file, place.line, place.column, f"there is no seal called {algorithm}", expected=seals)
    if found is None:
        known = [*_phrases(kind, blocks), *(f"crc32 of {one}" for one in (*blocks, *_parts(kind)))]
        near = difflib.get_close_matches(words, known, 1)
        expected = "" if near else "one of " + ", ".join(f"`{one}`" for one in known)
        raise LayoutError(
            file, place.line, place.column, f"`{words}` is not a meaning that a field can have", expected=expected,
            hint=f"`{near[0]}`" if near else "`kept` when nobody knows what it is",
        )  # fmt: skip
    if table is not None:
        if not (isinstance(found, Fact) and _is_tabled(kind, found.what)):
            raise LayoutError(file, place.line, place.column, f"`{words}` takes no table in braces")
        return Fact(found.what, table)
    return found


def _parts(kind: str) -> tuple[str, ...]:
    known = kind_of(kind)
    return known.PARTS if known else ()


def _is_tabled(kind: str, fact: str) -> bool:
    known = kind_of(kind)
    return known is not None and fact in known.TABLED


def _phrases(kind: str, blocks: list[str]) -> dict[str, Meaning]:
    """Every phrase there is but for the seals, with what it means."""
    known = kind_of(kind)
    phrases: dict[str, Meaning] = {
        "kept": Kept(),
        "length of file": Measure("length", "file"),
        "names": Pool(),
        "content": Inline(),
    }
    for fact in known.FACTS if known else ():
        phrases[fact] = Fact(fact)
    for block in blocks:
        phrases |= {f"{what} of {block}": Measure(what, block) for what in ("count", "start", "length")}
    return phrases


def check_layout(layout: Layout) -> None:
    """Nothing when the layout is sound; otherwise all its faults at once, each at its line."""
    errors: list[VolvexError] = [
        LayoutError(layout.file, place.line, place.column, problem, hint=hint)
        for place, problem, hint in sorted(_problems(layout), key=lambda found: (found[0].line, found[0].column))
    ]
    if len(errors) == 1:
        raise errors[0]
    if errors:
        raise ManyErrors(errors)


def _problems(layout: Layout) -> Iterator[Problem]:
    kind = kind_of(layout.kind)
    assert kind is not None  # the parser refuses others
    if not layout.blocks:
        yield layout.place, "a layout needs at least one block", "block head at 0"
    yield from _repeated([(block.name, block.place) for block in layout.blocks], "block")
    for block in layout.blocks:
        if block.name in ("file", "content"):
            yield block.place, f"a block cannot be called {block.name}", "another name"
        yield from _repeated([(field.name, field.place) for field in block.fields], "field")
        yield from _check_sorting(layout, block)
        yield from _check_along(layout, block)
        yield from _check_inline(layout, block)
        for field in block.fields:
            yield from _check_field(layout, field)
    yield from _check_facts(layout)
    yield from _check_places(layout)
    yield from kind.check(layout)


def _check_inline(layout: Layout, block: Block) -> Iterator[Problem]:
    """Content within a row of records: behind the last field of each."""
    for one in block.fields:
        if isinstance(one.type, Here) != isinstance(one.meaning, Inline):
            yield (
                one.place,
                f"`{one.name}` is {one.type} with the meaning `{one.words}`; content that lies here is both",
                "bytes  content",
            )
        elif isinstance(one.meaning, Inline) and (one is not block.fields[-1] or not block.repeats):
            yield one.place, "content lies behind the other fields of a repeating block", "moving it to the end"
    if not block.inline:
        if block.until is not None:
            yield (
                block.place,
                "only records that are followed by their content go on until something",
                f"a field with the meaning `count of {block.name}`",
            )
        return
    if not any(isinstance(one.meaning, Fact) and one.meaning.what.endswith("size of content") for one in block.fields):
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
                    f"`{one.words}`: records that are followed by their content have no {getattr(meaning, 'what', 'seal')}",
                    "`kept`",
                )


def _check_along(layout: Layout, block: Block) -> Iterator[Problem]:
    for name, what in ((block.at.after if block.at else "", "start behind"), (block.along, "repeat with")):
        other = layout.block(name) if name else None
        if name and (other is None or other is block):
            near = difflib.get_close_matches(name, [one.name for one in layout.blocks if one is not block], 1)
            yield (
                block.place,
                f"{block.name} cannot {what} {name}: there is no such block",
                near[0] if near else "the name of another block",
            )
        elif block.along and what == "repeat with" and other is not None and not other.repeats:
            yield block.place, f"{name} is one record, {block.name} cannot repeat with it", f"block {name} repeats"


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
    elif any(one.along for one in layout.entry_blocks()):
        yield (
            block.place,
            "records that belong together over several blocks cannot be sorted yet",
            "leaving `sorted by` out",
        )
    elif isinstance(by.type, Raw) or not isinstance(by.meaning, Fact | Kept):
        yield by.place, f"records cannot be sorted by `{by.name}`", "a name or a number that belongs to the entry"


def _repeated(names: list[tuple[str, Place]], what: str) -> Iterator[Problem]:
    seen = set()
    for name, place in names:
        if name in seen:
            yield place, f"there is a {what} {name} already", "another name"
        seen.add(name)


def _check_field(layout: Layout, field: Field) -> Iterator[Problem]:
    meaning, kind = field.meaning, field.type
    if isinstance(kind, Text):
        yield from _check_text(field, kind)
    if field.changes and (not isinstance(kind, Number) or isinstance(meaning, Kept | Constant | SealOf)):
        yield field.place, f"`{field.name}` is not a number that could be changed by x, plus or xor", "leaving that out"
    if isinstance(meaning, Constant):
        yield from _check_constant(field, meaning.value)
    elif isinstance(meaning, Measure):
        yield from _check_measure(layout, field, meaning)
    elif isinstance(meaning, SealOf):
        bits = _seal_bits(meaning.algorithm)
        fits = (isinstance(kind, Number) and not kind.signed and kind.bits == bits) or kind == Raw(bits // 8)
        if not fits:
            wanted = f"u{bits}" if bits <= 64 else f"{bits // 8} bytes"
            yield field.place, f"{meaning.algorithm} has {bits} bits, `{field.name}` is {kind}", wanted


def _seal_bits(algorithm: str) -> int:
    try:
        return SEAL.get(algorithm).bits
    except UsageError:
        return 0


def _check_text(field: Field, kind: Text) -> Iterator[Problem]:
    if kind.prefix is not None and kind.prefix.signed:
        yield field.place, f"the length of `{field.name}` cannot be negative", f"u{kind.prefix.bits}"
    if kind.size is None and kind.prefix is None and len("a".encode(kind.encoding)) != 1:
        yield field.place, f"text that ends at a zero byte cannot be in {codecs.lookup(kind.encoding).name}", "text u16"


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
    if not isinstance(field.type, Number):
        yield field.place, f"`{field.name}` measures something, so it is a number, not {field.type}", "u32"
    block = layout.block(meaning.part)
    if block is not None and meaning.what == "count" and not block.repeats:
        yield field.place, f"{block.name} is one record, it has no count", f"block {block.name} repeats"
    home = next(home for home in layout.blocks if field in home.fields)
    if home.repeats:
        yield (
            field.place,
            f"each record of {home.name} would hold the {meaning.what} of {meaning.part}",
            "a block that does not repeat",
        )


def _check_facts(layout: Layout) -> Iterator[Problem]:
    kind, seen = kind_of(layout.kind), set()
    assert kind is not None
    for block in layout.blocks:
        for field in block.fields:
            per_entry = isinstance(field.meaning, Fact) or (
                isinstance(field.meaning, SealOf) and field.meaning.part in kind.PARTS
            )
            if per_entry and not block.repeats:
                yield (
                    field.place,
                    f"`{field.words}` is about each entry, but {block.name} is one record",
                    f"block {block.name} repeats",
                )
            if not isinstance(field.meaning, Fact):
                continue
            what = field.meaning.what
            if what in seen:
                yield field.place, f"a second field for the {what}", "`kept`"
            seen.add(what)
            if not isinstance(field.type, kind.FACTS[what]):
                wanted = "text" if Text in kind.FACTS[what] else "a number"
                yield field.place, f"the {what} is {wanted}, `{field.name}` is {field.type}", ""
    for what in kind.NEEDS:
        if what not in seen:
            yield layout.place, f"no field tells the {what}", f"a field with the meaning `{what}`"


def measures(layout: Layout) -> dict[tuple[str, str], tuple[Block, Field]]:
    """(what, part) -> the field that holds it, for the first that does."""
    found: dict[tuple[str, str], tuple[Block, Field]] = {}
    for block in layout.blocks:
        for field in block.fields:
            if isinstance(field.meaning, Measure):
                found.setdefault((field.meaning.what, field.meaning.part), (block, field))
    return found


def reading_order(layout: Layout) -> list[Block]:
    """The blocks in an order in which each can be found from those before it; those that cannot are left out."""
    known, order = measures(layout), list[Block]()
    waiting = list(layout.blocks)
    while True:
        ready = [block for block in waiting if _is_found(block, known, {done.name for done in order})]
        if not ready:
            return order
        order.append(ready[0])
        waiting.remove(ready[0])


def _is_found(block: Block, known: dict[tuple[str, str], tuple[Block, Field]], read: set[str]) -> bool:
    start, count = known.get(("start", block.name)), known.get(("count", block.name))
    placed = start is not None and start[0].name in read
    if block.at is not None:
        placed = not block.at.after or block.at.after in read
    counted = (
        block.along in read
        if block.along
        else count is None or not block.repeats or block.until is not None or count[0].name in read
    )
    return placed and counted


def _check_places(layout: Layout) -> Iterator[Problem]:
    found = {block.name for block in reading_order(layout)}
    known = measures(layout)
    for block in layout.blocks:
        if block.name in found:
            continue
        start = known.get(("start", block.name))
        if block.at is None and start is None:
            yield (
                block.place,
                f"nothing says where {block.name} starts",
                f"`at 0`, or a field with the meaning `start of {block.name}`",
            )
        else:
            yield (
                block.place,
                f"where {block.name} is can only be known after it was read",
                f"`block {block.name} at ...`",
            )
    for block in layout.blocks:
        count = block.along or known.get(("count", block.name)) or known.get(("length", block.name))
        if block.repeats and count is None and block.until is None:
            yield (
                block.place,
                f"nothing says how many records {block.name} has",
                f"a field with the meaning `count of {block.name}`",
            )


def unwritable(layout: Layout) -> list[tuple[Place, str]]:
    """Why a sound layout could be read but not written: places and reasons, none when it can be."""
    reasons: list[tuple[Place, str]] = []
    if layout.read_only:
        reasons.append((layout.place, "its author says `read only`"))
    order = seal_order(layout)
    for block in layout.blocks:
        if block not in order:
            reasons.append((block.place, f"the seals of {block.name} and of another block each cover the other"))
        if _stands_behind_a_growing_block(layout, block):
            reasons.append((block.place, f"{block.name} has a fixed place behind a block that may grow into it"))
        if (
            block.at
            and block.at.from_end
            and (block.repeats or any(isinstance(f.type, Text) and not f.type.size for f in block.fields))
        ):
            reasons.append(
                (block.place, f"{block.name} is found from the end of the file, but may change its own length")
            )
    reasons += getattr(kind_of(layout.kind), "unwritable", lambda _: ())(layout)
    return reasons


def _stands_behind_a_growing_block(layout: Layout, block: Block) -> bool:
    if block.at is None or not block.at.fixed or not block.at.offset:
        return False
    fixed = [(other, other.at) for other in layout.blocks if other.at is not None and other.at.fixed]
    return any(other.repeats and at.offset < block.at.offset for other, at in fixed)


def seal_order(layout: Layout) -> list[Block]:
    """The blocks in an order in which their seals can be computed; those in a circle are left out."""
    order: list[Block] = []
    waiting = list(layout.blocks)
    while True:
        done = {block.name for block in order}
        ready = [block for block in waiting if _sealed_blocks(layout, block) <= done]
        if not ready:
            return order
        order.append(ready[0])
        waiting.remove(ready[0])


def _sealed_blocks(layout: Layout, block: Block) -> set[str]:
    """Other blocks over which this one holds a seal."""
    return {
        field.meaning.part
        for field in block.fields
        if isinstance(field.meaning, SealOf) and layout.block(field.meaning.part) and field.meaning.part != block.name
    }
