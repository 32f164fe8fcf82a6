"""Archives: a directory of entries, and their content."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.codec import COMPRESS
from volvex.errors import UsageError
from volvex.layout.model import Fact, Field, Layout, Number, Place, Pool, Text

NAME, NAME_AT, START, STORED, SIZE, CODEC = (
    "name", "start of name", "start of content", "stored size of content", "size of content", "codec of content",
)  # fmt: skip
FACTS = {NAME: (Text,), NAME_AT: (Number,), START: (Number,), STORED: (Number,), SIZE: (Number,), CODEC: (Number,)}
TABLED = (CODEC,)  # facts whose numbers are told in a table
NEEDS = ()
PARTS = ("stored content", "content")  # what a seal may cover besides a block


def check(layout: Layout) -> Iterator[tuple[Place, str, str]]:
    """What an archive's layout needs besides its facts."""
    facts = {
        field.meaning.what: field
        for block in layout.blocks
        for field in block.fields
        if isinstance(field.meaning, Fact)
    }
    roots = {
        layout.root(block).name for block in layout.blocks for field in block.fields if isinstance(field.meaning, Fact)
    }
    if len(roots) > 1:
        told = ", ".join(sorted(roots))
        yield (
            layout.place,
            f"the facts about an entry are spread over {told}, which nothing ties together",
            "block ... repeats with ...",
        )
    inline = [block for block in layout.blocks if block.inline]
    if START in facts and inline:
        yield facts[START].place, f"where content starts is told twice: here and in {inline[0].name}", "`kept`"
    elif START not in facts and len(inline) != 1:
        yield (
            layout.place,
            "no field tells the start of content",
            "a field with the meaning `start of content`, or `bytes  content` in the records",
        )
    yield from _check_names(layout, facts)
    if layout.content.until_next:
        yield from _check_until_next(layout, facts)
    elif STORED not in facts and SIZE not in facts:
        yield (
            layout.place,
            "no field says how long an entry's content is",
            "`stored size of content` or `size of content`",
        )
    if START in facts:
        yield from _check_start(layout, facts[START])
    if CODEC in facts:
        yield from _check_codec(facts[CODEC], STORED in facts and SIZE in facts)


def _check_start(layout: Layout, start: Field) -> Iterator[tuple[Place, str, str]]:
    unit = 1
    for change in start.changes:
        unit = change.number if change.how == "times" else unit
    if layout.content.align % unit:
        problem = (
            f"content starts at multiples of {layout.content.align}, which `{start.name}` cannot say in units of {unit}"
        )
        yield start.place, problem, f"content align {unit}"


def _check_names(layout: Layout, facts: dict[str, Field]) -> Iterator[tuple[Place, str, str]]:
    """Names stand in the entries, or in a pool to which the entries point."""
    pools = [(block, field) for block in layout.blocks for field in block.fields if isinstance(field.meaning, Pool)]
    if NAME not in facts and NAME_AT not in facts:
        yield (
            layout.place,
            "no field tells the name",
            f"a field with the meaning `{NAME}`, or `{NAME_AT}` and a pool of `names`",
        )
    elif NAME in facts and (NAME_AT in facts or pools):
        yield facts[NAME].place, "the names are told twice: in the entries and in a pool", "`kept` for one of them"
    elif NAME_AT in facts and len(pools) != 1:
        yield (
            facts[NAME_AT].place,
            f"`{NAME_AT}` needs one block with a field of the meaning `names`",
            "text zero  names",
        )
    for block, field in pools:
        if (
            not isinstance(field.type, Text)
            or field.type.size is not None
            or len(block.fields) > 1
            or not block.repeats
        ):
            yield (
                field.place,
                "a pool of names is a repeating block with one field, a text zero or a text with its length",
                "text zero  names",
            )


def _check_until_next(layout: Layout, facts: dict[str, Field]) -> Iterator[tuple[Place, str, str]]:
    told = facts.get(STORED) or facts.get(SIZE)
    if told is not None:
        yield (
            told.place,
            f"`{told.name}` says how long content is, and so does `content until next`",
            "leaving `until next` out",
        )
    if layout.content.align != 1:
        yield (
            layout.place,
            "content that ends where the next starts cannot be told from the filling behind it",
            "leaving `align` out",
        )


def _check_codec(codec: Field, both_sizes: bool) -> Iterator[tuple[Place, str, str]]:
    assert isinstance(codec.meaning, Fact)
    if not codec.meaning.table:
        yield (
            codec.place,
            f"`{codec.name}` does not say which number is which codec",
            "codec of content { 0 none, 1 zlib }",
        )
    for _, name in codec.meaning.table:
        try:
            COMPRESS.get(name)
        except UsageError as error:
            yield codec.place, error.message, error.hint
        if name != "none" and not both_sizes:
            yield codec.place, f"content in {name} needs its stored size and its size, each in a field", ""


def unwritable(layout: Layout) -> Iterator[tuple[Place, str]]:
    """Why such an archive could be read but not written."""
    for block in layout.blocks:
        for field in block.fields:
            if isinstance(field.meaning, Fact) and field.meaning.what == CODEC:
                for _, name in field.meaning.table:
                    if not hasattr(COMPRESS.get(name), "encode_stream"):
                        yield field.place, f"the codec {name} only decodes"
