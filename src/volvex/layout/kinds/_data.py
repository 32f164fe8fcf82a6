"""What tables, texts and scenes have in common: values of the content, and pools of texts into which they point."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from volvex.layout.model import (
    ArrayType,
    Block,
    Choice,
    Field,
    IntegerType,
    Layout,
    Nested,
    Number,
    Place,
    Text,
    Value,
    is_bare,
    pooled_length,
    pools_of,
    rows_of_layout,
)

Problem = tuple[Place, str, str]
PHRASE = re.compile(r"(?P<role>[a-z]+|refers to (?P<refers>[\w.-]+))(?P<numbered> number)?(?: in (?P<pool>[\w.-]+))?")


def value_of(words: str, roles: Sequence[str], blocks: Sequence[str]) -> Value | None:
    """The value that a phrase such as `key`, `text in words` or `refers to lenses` means; None when it means none."""
    if words in roles:
        return Value(words)
    found = PHRASE.fullmatch(words)
    if found is None:
        return None
    refers, pool = found["refers"] or "", found["pool"] or ""
    role = "value" if refers else found["role"]
    if role == "text" and "text" not in roles and pool:
        role = "value"
    if role not in roles or (pool and pool not in blocks) or (found["numbered"] and not pool):
        return None
    return Value(role, (), refers, pool, bool(found["numbered"]))


Check = Callable[[Layout], Iterator[Problem]]


@dataclass(frozen=True)
class DataKind:
    """A kind whose files hold values, not entries: which roles a value can have, and what a sound layout needs
    besides."""

    ROLES: tuple[str, ...]
    check_more: Check
    ATTRIBUTES: Mapping[str, tuple[type, ...]] = dataclasses.field(default_factory=dict)
    OF: Mapping[str, str] = dataclasses.field(default_factory=dict)
    TABLED: tuple[str, ...] = ()
    WORDED: tuple[str, ...] = ()
    NEEDS: tuple[str, ...] = ()
    PARTS: tuple[str, ...] = ()

    def meaning(self, words: str, blocks: Sequence[str]) -> Value | None:
        """The value that a phrase means; None when it means none."""
        return value_of(words, self.ROLES, blocks)

    def check(self, layout: Layout) -> Iterator[Problem]:
        """What a layout of the kind needs besides facts."""
        yield from check_values(layout)
        yield from self.check_more(layout)


def check_values(layout: Layout) -> Iterator[Problem]:
    """What the values of any of these kinds need."""
    pools = pools_of(layout)
    rows = rows_of_layout(layout)
    if not rows:
        yield (
            layout.place,
            f"a {layout.kind} without records",
            "a block that repeats, with a field of the meaning `value`",
        )
    for block in layout.blocks:
        if block not in rows:
            for one in block.fields:
                if isinstance(one.meaning, Value):
                    yield (
                        one.place,
                        f"`{one.words}` is one for each record, but {block.name} is one record",
                        f"block {block.name} repeats",
                    )
    for name, pool in pools.items():
        kind = pool.type
        ends = isinstance(kind, Text) and kind.size is None and not kind.length_by
        if not (ends or is_bare(pool)) or len(layout_block(layout, name).fields) > 1:
            yield (
                pool.place,
                "a pool of texts is a repeating block with one field: a text zero, a text with its length, or u8",
                "text zero  texts",
            )
    for block in rows:
        keys = [field for field in block.fields if isinstance(field.meaning, Value) and field.meaning.role == "id"]
        if len(keys) > 1:
            yield keys[1].place, f"a second id of {block.name}", "`value`"
        if block.until or block.inline:
            yield block.place, f"{block.name} has no entries that could follow its records", "a count of them"
        for field in block.fields:
            yield from check_value(field, pools)
            home = pools.get(field.meaning.pool) if isinstance(field.meaning, Value) else None
            if home is not None and is_bare(home) and pooled_length(block, field) is None:
                yield (
                    field.place,
                    f"no field gives the length of the text to which `{field.name}` points",
                    f"u16  length of {field.name}",
                )
    yield from _check_rules(layout, rows)
    for record in layout.records:
        for one in record.fields:
            if isinstance(one.meaning, Value) and any(change.how == "from" for change in one.changes):
                yield (
                    one.place,
                    f"`{one.name}` counts from a part, which a field of the block itself can alone",
                    "leaving `from` out",
                )
            yield from check_value(one, pools)


def roles_of_rows(layout: Layout) -> Iterator[tuple[Block, list[str]]]:
    """The blocks whose records have values, with the roles of these and of the blocks that repeat with them."""
    found: dict[str, tuple[Block, list[str]]] = {}
    for block in rows_of_layout(layout):
        root = layout.root(block)
        roles = found.setdefault(root.name, (root, []))[1]
        roles += [field.meaning.role for field in block.fields if isinstance(field.meaning, Value)]
    yield from found.values()


def layout_block(layout: Layout, name: str) -> Block:
    """The block of that name, which is there."""
    return next(block for block in layout.blocks if block.name == name)


def check_value(field: Field, pools: dict[str, Field]) -> Iterator[Problem]:
    """What one value needs: a pool that is one, a type that can be one, words for numbers only."""
    meaning, kind = field.meaning, field.type
    if not isinstance(meaning, Value):
        return
    if meaning.pool:
        if meaning.pool not in pools:
            yield (
                field.place,
                f"{meaning.pool} is no pool of texts",
                f"block {meaning.pool} repeats, with a field `texts`",
            )
        if not isinstance(kind, IntegerType):
            yield field.place, f"`{field.name}` points to a text, so it is a number, not {kind}", "u32"
    elif isinstance(kind, ArrayType | Choice | Nested) and meaning.role != "value":
        yield field.place, f"the {meaning.role} is a number or a text, `{field.name}` is {kind}", "u32"
    if meaning.table and (meaning.pool or not isinstance(kind, IntegerType)):
        yield field.place, f"`{field.name}` is {kind}, the words in braces stand for numbers", "leaving them out"


def _check_rules(layout: Layout, rows: Sequence[Block]) -> Iterator[Problem]:
    """How names become keys is said at most once, and for keys that are numbers."""
    for rule in layout.keys[1:]:
        yield rule.place, "how hashes are made is given twice", "leaving one of them out"
    for rule in layout.keys[:1]:
        keys = [
            field
            for block in rows
            for field in block.fields
            if isinstance(field.meaning, Value) and field.meaning.role == "id"
        ]
        if rule.what != "name hash" or rule.numbered:
            yield rule.place, "a record's key is made of its name as a whole", "hashes by fnv1a(bits 32)"
        elif not keys or any(
            not isinstance(key.type, Number)
            or key.type.signed
            or key.changes
            or (isinstance(key.meaning, Value) and key.meaning.pool)
            for key in keys
        ):
            yield rule.place, "no record has an id that is a plain number", "u32  id"
