"""In which order a layout's parts are found and their checksums computed."""

from __future__ import annotations

from volvex.layout.expression import BytesOf, Expression, FieldOf, Literal, Made, MeasureOf, NameOf, SumOf, walk
from volvex.layout.model import Attribute, Block, ChecksumOf, Computed, Field, Layout, Measure, Part, RecordsOf

Holders = dict[tuple[str, str], list[tuple[Block, Field]]]


def measures(layout: Layout) -> Holders:
    """(what, part) -> the fields that hold it: several when they depend on something. Upper bits are left out."""
    found: Holders = {}
    for block in layout.blocks:
        for field in block.fields:
            if isinstance(field.meaning, Measure) and not field.meaning.upper:
                found.setdefault((field.meaning.what, field.meaning.part), []).append((block, field))
    return found


def holder_of(layout: Layout, block: Block) -> Block | None:
    """The block within whose records the records of `block` lie."""
    for home in layout.blocks:
        if any(isinstance(field.meaning, RecordsOf) and field.meaning.block == block.name for field in home.fields):
            return home
    return None


def group_holder(layout: Layout, block: Block) -> Block | None:
    """The block of which each record stores where a group of `block`'s records lies."""
    return next(
        (
            home
            for home in layout.blocks
            if home.repeats
            and home is not block
            and any(field.meaning == Measure("start", block.name) for field in home.fields)
        ),
        None,
    )


def grows(block: Block) -> bool:
    """Whether a block's records say themselves how many more follow: folders, each with its folders behind it."""
    lines = {field.meaning.what for field in block.fields if isinstance(field.meaning, Attribute)}
    return "folders in it" in lines and "first folder" not in lines


def reading_order(layout: Layout) -> list[Block | Part]:
    """The blocks and parts in an order in which each can be found from those before it; others are left out."""
    known, order = measures(layout), list[Block | Part]()
    waiting: list[Block | Part] = [*layout.parts, *layout.blocks]
    while True:
        done = {one.name for one in order}
        ready = [one for one in waiting if _is_found(layout, one, known, done)]
        if not ready:
            return order
        order.append(ready[0])
        waiting.remove(ready[0])


def _is_found(layout: Layout, block: Block | Part, known: Holders, read: set[str]) -> bool:
    def told(what: str) -> bool:
        holders = known.get((what, block.name), [])
        if not holders and (read_as := layout.reads(Measure(what, block.name))) is not None:
            return asked_places(layout, read_as.value) <= read
        bases = {change.part for _, field in holders for change in field.changes if change.how == "from"}
        return bool(holders) and {home.name for home, _ in holders} | bases <= read

    holder = holder_of(layout, block) if isinstance(block, Block) else None
    holder = holder or (group_holder(layout, block) if isinstance(block, Block) else None)
    if holder is not None:
        return holder.name in read and (not isinstance(block, Block) or not block.within or block.within in read)
    if block.at is not None:
        placed = not block.at.after or (block.at.after in read and _is_whole(layout, block.at.after, read))
    else:
        placed = told("start")
    if not placed or not _asked(block) <= read:
        return False
    if isinstance(block, Part):
        if block.cut is not None and not {table.name for table in layout.rooted("chunk")} <= read:
            return False
        return block.reach is not None or all(
            told(what) for what in ("length", "stored length", "end") if is_measured(layout, known, what, block.name)
        )
    if any(is_measured(layout, known, what, block.name) and not told(what) for what in ("end", "length")):
        return False
    if block.within and block.within not in read:
        return False
    if block.along:
        return block.along in read
    counted = is_measured(layout, known, "count", block.name)
    return not block.repeats or block.until is not None or not counted or told("count")


def is_measured(layout: Layout, known: Holders, what: str, part: str) -> bool:
    """Whether a field stores a measurement, or the layout says what it reads as."""
    return (what, part) in known or layout.reads(Measure(what, part)) is not None


def asked_places(layout: Layout, value: Expression, own: Block | None = None) -> set[str]:
    """The blocks and parts that must be known for an expression; `own` is the block in which it stands."""
    fields = {field.name for field in own.fields} if own is not None else set()
    found = set[str]()
    for one in walk(value):
        if isinstance(one, FieldOf) and one.name not in fields:
            found.add(one.name.partition(".")[0])
        elif isinstance(one, MeasureOf | BytesOf):
            found.add(one.part)
        elif isinstance(one, SumOf) and isinstance(one.of, str):
            found.add(one.of)
    return found & {place.name for place in layout.places}


def _is_whole(layout: Layout, name: str, read: set[str]) -> bool:
    """Whether it is known where a part ends: of one that is as long as its records all blocks must have been read."""
    part = layout.part(name)
    if part is None or part.reach is None or part.reach.to != "records":
        return True
    return {block.name for block in layout.blocks if block.within == name} <= read


def _asked(block: Block | Part) -> set[str]:
    """The blocks whose fields must be known before this can be read."""
    conditions = [block.when] if block.when else []
    if isinstance(block, Block):
        own = {field.name for field in block.fields}
        conditions += [field.when for field in block.fields if field.when]
        return {test.field.partition(".")[0] for when in conditions for test in when.tests if test.field not in own}
    keys = {
        one.name.partition(".")[0]
        for transform in block.transforms
        for derived in transform.derived
        for one in (walk(derived.value) if derived.value is not None else ())
        if isinstance(one, FieldOf)
    }
    return keys | {test.field.partition(".")[0] for when in conditions for test in when.tests}


def checksum_order(layout: Layout) -> list[Block]:
    """The blocks in an order in which their checksums can be computed; those in a circle are left out."""
    order: list[Block] = []
    waiting = list(layout.blocks)
    while True:
        done = {block.name for block in order}
        ready = [block for block in waiting if _summed_blocks(layout, block) <= done]
        if not ready:
            return order
        order.append(ready[0])
        waiting.remove(ready[0])


def _summed_blocks(layout: Layout, block: Block) -> set[str]:
    """Other blocks that must be whole before this one: those over which it holds a checksum, those within its
    records."""
    found = set[str]()
    for field in block.fields:
        meaning = field.meaning
        if isinstance(meaning, ChecksumOf) and not meaning.edge:
            for part in meaning.parts:
                if layout.block(part) and part != block.name:
                    found.add(part)
                elif layout.part(part):
                    found |= {block.name for block in layout.blocks if block.within == part}
        elif isinstance(meaning, RecordsOf):
            found.add(meaning.block)
        elif isinstance(meaning, Computed):
            found |= _summed_places(layout, block, meaning.value)
    return found


def _summed_places(layout: Layout, block: Block, value: Expression) -> set[str]:
    """Other blocks whose bytes an expression needs."""
    found = set[str]()
    for one in walk(value):
        part = one.part if isinstance(one, BytesOf) else one.of if isinstance(one, SumOf) else ""
        if isinstance(part, str) and layout.block(part) and part != block.name:
            found.add(part)
        elif isinstance(part, str) and layout.part(part):
            found |= {block.name for block in layout.blocks if block.within == part}
        elif isinstance(one, FieldOf) and (home := one.name.partition(".")[0]) != block.name:
            other = next((held for held in layout.blocks if held.name == home), None)
            asked = other.field(one.name.partition(".")[2]) if other is not None else None
            if asked is not None and needs_bytes(layout, asked):
                found.add(home)
    return found


def needs_bytes(layout: Layout, field: Field) -> bool:
    """Whether a field is known only when blocks or parts have been written: it holds a checksum of one, or its
    bytes."""
    if isinstance(field.meaning, ChecksumOf):
        return any(layout.block(part) or layout.part(part) for part in field.meaning.parts)
    if not isinstance(field.meaning, Computed):
        return False
    nodes = list(walk(field.meaning.value))
    places = {place.name for place in layout.places}
    if any(isinstance(one, BytesOf) or (isinstance(one, SumOf) and one.of in places) for one in nodes):
        return True
    home = next((block for block in layout.blocks if field in block.fields), None)
    asked = [asked_field(layout, home, one.name) for one in nodes if isinstance(one, FieldOf)]
    return any(one is not None and one is not field and needs_bytes(layout, one) for one in asked)


def is_of_names(field: Field) -> bool:
    """Whether a field is an expression of names alone, and known before anything has a place."""
    return isinstance(field.meaning, Computed) and all(
        isinstance(one, NameOf | Literal)
        or (isinstance(one, SumOf) and not isinstance(one.of, str))
        or (isinstance(one, Made) and one.how not in ("total", "smallest", "largest", "previous", "next", "at"))
        for one in walk(field.meaning.value)
    )


def covers(field: Field, part: str) -> bool:
    """Whether a field that is an expression holds a checksum over a part, or its bytes."""
    return isinstance(field.meaning, Computed) and any(
        one == BytesOf(part) or (isinstance(one, SumOf) and one.of == part) for one in walk(field.meaning.value)
    )


def asked_field(layout: Layout, home: Block | None, name: str) -> Field | None:
    """The field that an expression in a block asks: of the same record, or `block.field`."""
    own = home.field(name) if home is not None else None
    if own is not None:
        return own
    block, _, rest = name.partition(".")
    other = layout.block(block)
    return other.field(rest) if other is not None else None


def computed_order(layout: Layout) -> tuple[list[tuple[Block, Field]], list[tuple[Block, Field]]]:
    """The fields that are expressions, each behind those that it asks; and those that ask each other in a circle."""
    waiting = [
        (block, field) for block in layout.blocks for field in block.fields if isinstance(field.meaning, Computed)
    ]
    order: list[tuple[Block, Field]] = []
    while True:
        open_fields = [field for _, field in waiting]
        ready = [
            (block, field)
            for block, field in waiting
            if not any(asked in open_fields for asked in _asked_by(layout, block, field))
        ]
        if not ready:
            return order, waiting
        order += ready
        waiting = [one for one in waiting if one not in ready]


def _asked_by(layout: Layout, block: Block, field: Field) -> list[Field]:
    assert isinstance(field.meaning, Computed)
    names = [one.name for one in walk(field.meaning.value) if isinstance(one, FieldOf)]
    names += [test.field for test in field.when.tests] if field.when is not None else []
    return [asked for name in names if (asked := asked_field(layout, block, name)) is not None]
