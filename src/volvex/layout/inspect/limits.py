"""How far files of a layout can grow: the largest counts, offsets, sizes and names that its fields can store."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from volvex.layout.kinds import archive as attributes
from volvex.layout.language.check.siblings import half_of
from volvex.layout.model import Attribute, Field, IntegerType, Layout, Measure, Text

UNLIMITED = 1 << 48  # more than any file has


@dataclass(frozen=True)
class Limit:
    """The largest number that a field can store, and of what; in bytes when `is_size`."""

    of: str
    most: int
    is_size: bool


def limits_of(layout: Layout) -> Iterator[Limit]:
    """The limits of a layout, those first that are reached first."""
    found: dict[str, Limit] = {}
    for block in layout.blocks:
        for field in block.fields:
            meaning = field.meaning
            upper = half_of(block, meaning, True) if isinstance(meaning, Attribute | Measure) else None
            limit = _limit(field, upper)
            if limit is not None and (
                limit.of not in found or limit.most > found[limit.of].most
            ):  # of several the widest
                found[limit.of] = limit
    yield from sorted(found.values(), key=lambda limit: (limit.is_size, limit.most))


def _limit(field: Field, upper: Field | None) -> Limit | None:
    meaning, kind = field.meaning, field.type
    if isinstance(meaning, Attribute) and meaning.what == attributes.NAME and isinstance(kind, Text):
        return Limit("name", kind.max_size, True) if kind.max_size is not None else None
    if not isinstance(kind, IntegerType) or getattr(meaning, "upper", False):
        return None
    bits = upper.type.value_bits if upper is not None and isinstance(upper.type, IntegerType) else 0
    most = (kind.limits[1] + 1 << bits) - 1
    for change in field.changes:
        most = most if change.how == "xor" else change.apply(most)
    if isinstance(meaning, Measure) and meaning.what in ("count", "length", "start", "end") and most < UNLIMITED:
        is_size = meaning.what != "count"
        return Limit(f"{meaning.what} of {meaning.part}", most, is_size)
    told = (attributes.START, attributes.SIZE, attributes.STORED, attributes.END)
    if isinstance(meaning, Attribute) and meaning.what in told and most < UNLIMITED:
        return Limit(meaning.what, most, True)
    return None
