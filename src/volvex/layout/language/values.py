"""What the words in an expression name: fields, facts of an entry, names, measurements, checksums."""

from __future__ import annotations

import difflib
from collections.abc import Mapping

from volvex.codec import CHECKSUM
from volvex.errors import UsageError
from volvex.layout.expression import BytesOf, Expression, FactOf, FieldOf, Made, MeasureOf, NameOf, SumOf
from volvex.layout.language.meanings import Names
from volvex.layout.model import CONTENTS, ChecksumOf, Computed, Meaning
from volvex.layout.types import InvalidSyntax
from volvex.layout.types.text import encoding_named

EDGES = ("start", "end", "length")
FACTS = (
    "start of content",
    "end of content",
    "stored size of content",
    "size of content",
    "number of record",
)
SEPARATORS = {"backslashes": "\\", "slashes": "/"}
CASES, NAME_PARTS = ("lower", "upper"), ("leaf", "folder", "extension")


class Unknown(ValueError):
    """Words that name nothing: what is wrong, and what could be there."""

    def __init__(self, problem: str, hint: str = "") -> None:
        super().__init__(problem)
        self.hint = hint


def named(words: str, names: Names) -> Expression:
    """What words in an expression stand for; Unknown when they name nothing."""
    measured = _measures(names).get(words)
    if measured is not None:
        return measured
    if words in FACTS and names.kind == "archive":
        return FactOf(words)
    if (name := _name_of(words)) is not None:
        return name
    if words.startswith("bytes of ") and words.removeprefix("bytes of ") in names.places:
        return BytesOf(words.removeprefix("bytes of "))
    if words.startswith("length of "):
        return Made("length", (named(words.removeprefix("length of "), names),))
    if " of " in words:
        return _summed(words, names)
    if " " in words:
        raise _unknown(words, names)
    return FieldOf(words)


def _measures(names: Names) -> Mapping[str, MeasureOf]:
    """Every measurement as a layout says it."""
    found = {
        "length of file": MeasureOf("length", "file"),
        "start of contents": MeasureOf("start", CONTENTS),
        "length of contents": MeasureOf("length", CONTENTS),
    }
    for place in names.places:
        found |= {f"{what} of {place}": MeasureOf(what, place) for what in (*EDGES, "stored length")}
    for block in names.blocks:
        found[f"count of {block}"] = MeasureOf("count", block)
    return found


def _name_of(words: str) -> NameOf | None:
    """An entry's name or a part of it: `lower leaf of name`, `folder of name with backslashes`, `name in utf-16-le`."""
    rest, case, separator, encoding = words, "", "", ""
    if " in " in rest:
        rest, _, told = rest.partition(" in ")
        try:
            encoding = encoding_named(told)
        except InvalidSyntax as error:
            raise Unknown(str(error), error.hint) from error
    if " with " in rest:
        rest, _, told = rest.partition(" with ")
        if told not in SEPARATORS:
            return None
        separator = SEPARATORS[told]
    first, _, behind = rest.partition(" ")
    if first in CASES:
        case, rest = first, behind
    if rest == "name":
        return NameOf("name", case, separator, encoding)
    part = rest.removesuffix(" of name")
    return NameOf(part, case, separator, encoding) if part in NAME_PARTS and part != rest else None


def _summed(words: str, names: Names) -> Expression:
    """A checksum such as `crc32 of table`, `fnv1a(bits 64) of lower leaf of name`."""
    algorithm, _, of = words.partition(" of ")
    try:
        CHECKSUM.get(algorithm)
    except UsageError as error:
        if "(" in algorithm or difflib.get_close_matches(algorithm, CHECKSUM.names(), 1):
            raise Unknown(error.message, error.hint) from error
        raise _unknown(words, names) from error
    if of in names.places or (of in ("content", "stored content") and names.kind == "archive"):
        return SumOf(algorithm, of)
    return SumOf(algorithm, named(of, names))


def _unknown(words: str, names: Names) -> Unknown:
    known = [*_measures(names), *FACTS, "leaf of name", "folder of name", "extension of name"]
    near = difflib.get_close_matches(words, known, 1)
    return Unknown(
        f"`{words}` names nothing", f"`{near[0]}`" if near else "a field, `count of table`, `length of file`"
    )


def fact_named(words: str, names: Names) -> tuple[str, str]:
    """What `reads as` may give: a fact of an entry (and nothing), or a measurement and its part; Unknown for others."""
    if words in FACTS[:4] and names.kind == "archive":
        return words, ""
    measured = _measures(names).get(words)
    if measured is not None and measured.part not in ("file", CONTENTS):
        return measured.what, measured.part
    known = [*FACTS[:4], *(words for words, found in _measures(names).items() if found.part in names.places)]
    near = difflib.get_close_matches(words, known, 1)
    raise Unknown(f"`{words}` is nothing that could be read as something", f"`{near[0]}`" if near else known[0])


def as_expression(meaning: ChecksumOf) -> Meaning:
    """A checksum as the expression that it is; itself where it covers more than one thing, or leaves itself out."""
    if meaning.edge or meaning.skips or len(meaning.parts) > 1 or meaning.part in ("file", "record"):
        return meaning
    name = _name_of(meaning.part)
    return Computed(SumOf(meaning.algorithm, meaning.part if name is None else name))
