"""In which order a layout's parts are found and their checksums computed."""

from __future__ import annotations

from volvex.layout.model import Attribute, Block, ChecksumOf, Field, Layout, Measure, Part, RecordsOf

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
            told(what) for what in ("length", "stored length", "end") if (what, block.name) in known
        )
    if ("end", block.name) in known and not told("end"):
        return False
    if block.within and block.within not in read:
        return False
    if block.along:
        return block.along in read
    return not block.repeats or block.until is not None or ("count", block.name) not in known or told("count")


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
    return {test.field.partition(".")[0] for when in conditions for test in when.tests}


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
    return found
