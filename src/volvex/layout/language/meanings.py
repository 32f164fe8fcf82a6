"""What a field's words mean: phrases such as `count of directory`, for the kind of the layout."""

from __future__ import annotations

import difflib
from dataclasses import dataclass, replace

from volvex.codec import CHECKSUM
from volvex.errors import LayoutError, UsageError
from volvex.layout.kinds import Kind, kind_of
from volvex.layout.model import (
    CONTENTS,
    Attribute,
    ByteOrder,
    ChecksumOf,
    Described,
    Inline,
    Meaning,
    Measure,
    Opaque,
    Place,
    Pool,
    RecordsOf,
    Value,
)
from volvex.layout.types import InvalidSyntax
from volvex.layout.types.text import encoding_named

UPPER = "upper "
ITSELF = " without itself"
Table = tuple[tuple[int | bytes, str], ...]


@dataclass(frozen=True)
class Names:
    """What meanings can speak of."""

    kind: str
    blocks: tuple[str, ...]
    parts: tuple[str, ...]

    @property
    def places(self) -> tuple[str, ...]:
        return (*self.blocks, *self.parts)


def meaning_of(
    names: Names, texts: tuple[str, ...], words: str, table: Table | None, file: str, place: Place
) -> Meaning:
    """What a phrase means in a layout of that kind; LayoutError when nothing. `texts`: siblings whose length it may
    be."""
    kind = kind_of(names.kind)
    assert kind is not None  # the parser refuses others
    phrases = _phrases(kind, names) | {f"length of {text}": Measure("length", text) for text in texts}
    upper = words.startswith(UPPER)
    found = phrases.get(words.removeprefix(UPPER)) if upper else phrases.get(words)
    if upper and isinstance(found, Measure | Attribute):
        found = (
            Measure(found.what, found.part, True)
            if isinstance(found, Measure)
            else Attribute(found.what, (), found.of, True)
        )
    if found is None and words.startswith(("names in ", "texts in ")) and words[:5] in phrases:
        found = _encoded_pool(words, file, place)
    if found is None and hasattr(kind, "meaning"):
        found = kind.meaning(words, names.blocks)
    if found is None:
        found = _checksum(kind, names, words, file, place)
    if found is None:
        raise _unknown(kind, names, phrases, words, file, place)
    return _tabled(kind, found, words, table, file, place)


def _encoded_pool(words: str, file: str, place: Place) -> Pool:
    try:
        return Pool(encoding_named(words[9:]))
    except InvalidSyntax as error:
        raise LayoutError(file, place.line, place.column, str(error), hint=error.hint) from error


def _checksum(kind: Kind, names: Names, words: str, file: str, place: Place) -> ChecksumOf | None:
    """A checksum such as `crc32 of stored content`, or nothing."""
    algorithm, _, part = words.partition(" of ")
    edge = ""
    for one in ("before", "after"):
        if part.startswith(f"file {one} "):
            edge, part = one, part.removeprefix(f"file {one} ")
    skips = part.endswith(ITSELF)
    part = part.removesuffix(ITSELF)
    known = names.places if edge else (*names.places, "file", "record", *kind.PARTS)
    several = len(parts := part.split(" and ")) > 1 and set(parts) <= set(names.places)
    if (part not in known and not several) or " " in algorithm.partition("(")[0]:
        return None
    try:
        CHECKSUM.get(algorithm)
    except UsageError as error:
        if "(" not in algorithm and not difflib.get_close_matches(algorithm, CHECKSUM.names(), 1):
            return None
        raise LayoutError(file, place.line, place.column, error.message, expected=error.hint) from error
    return ChecksumOf(algorithm, part, edge, skips)


def _unknown(kind: Kind, names: Names, phrases: dict[str, Meaning], words: str, file: str, place: Place) -> LayoutError:
    checksums = [f"crc32 of {place}" for place in (*names.places, *kind.PARTS)]
    near = difflib.get_close_matches(words, [*phrases, *checksums], 1)
    some = [
        "kept",
        *(f"{role} in ..." if role == "text" else role for role in getattr(kind, "ROLES", ())),
        *list(kind.ATTRIBUTES)[:4],
        *(f"{what} of {block}" for block in names.blocks[:1] for what in ("start", "count")),
        *checksums[:1],
    ]
    text = ", ".join(f"`{one}`" for one in some)
    expected = "" if near else f"a meaning such as {text} (docs/layouts.md has all)"
    return LayoutError(
        file,
        place.line,
        place.column,
        f"`{words}` is not a meaning that a field can have",
        expected=expected,
        hint="the encoding before the unit: text u8 in utf-16-le x 2"
        if words.startswith("in ")
        else f"`{near[0]}`"
        if near
        else "`kept` for an unknown field",
    )


def _tabled(kind: Kind, found: Meaning, words: str, table: Table | None, file: str, place: Place) -> Meaning:
    """The meaning with its table in braces."""

    def wrong(problem: str, hint: str = "") -> LayoutError:
        return LayoutError(file, place.line, place.column, problem, hint=hint)

    if isinstance(found, ByteOrder):
        orders = tuple((key, word) for key, word in table or () if isinstance(key, bytes) and word in ("little", "big"))
        if not orders or len(orders) != len(table or ()):
            raise wrong(
                "`byte order` needs a table of what is little and what is big", 'byte order { "II" little, "MM" big }'
            )
        return ByteOrder(orders)
    if table is None:
        return found
    numbers = tuple((key, word) for key, word in table if isinstance(key, int))
    if len(numbers) != len(table):
        raise wrong("the table in braces gives words for numbers", "{ 0 none, 1 zlib }")
    if isinstance(found, Opaque):
        return Opaque(numbers)
    if isinstance(found, Value):
        return replace(found, table=numbers)
    if isinstance(found, Attribute) and found.what in (*kind.TABLED, *kind.WORDED):
        return Attribute(found.what, numbers, found.of)
    raise wrong(f"`{words}` takes no table in braces")


def _phrases(kind: Kind, names: Names) -> dict[str, Meaning]:
    """Every phrase there is but for the checksums, with what it means."""
    phrases: dict[str, Meaning] = {
        "kept": Opaque(),
        "described": Described(),
        "byte order": ByteOrder(()),
        "length of file": Measure("length", "file"),
        "start of contents": Measure("start", CONTENTS),
        "length of contents": Measure("length", CONTENTS),
        "names": Pool(),
        "content": Inline(),
    }
    if hasattr(kind, "ROLES"):  # records with values, not entries with content
        phrases["texts"] = phrases.pop("names")
        del phrases["content"]
    phrases |= {attribute: Attribute(attribute, (), kind.OF.get(attribute, "entry")) for attribute in kind.ATTRIBUTES}
    for place in names.places:
        phrases |= {f"{what} of {place}": Measure(what, place) for what in ("start", "end", "length")}
    for block in names.blocks:
        phrases |= {f"count of {block}": Measure("count", block), f"records of {block}": RecordsOf(block)}
    return phrases | {f"stored length of {part}": Measure("stored length", part) for part in names.places}
