"""What makes a second row of entries unsound: `block late repeats as files`."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from volvex.layout.language.check.places import Problem
from volvex.layout.model import ChecksumOf, Field, Layout, Measure, Opaque
from volvex.layout.order import group_holder


def check_rows(layout: Layout) -> Iterator[Problem]:
    """What such a row needs: a plain row of entries that it goes on with, and a count or a length of its own."""
    for block in layout.blocks:
        if not block.like:
            continue
        first = layout.block(block.like)
        if first is None or first.like or not first.repeats:
            yield block.place, f"there is no row {block.like} that {block.name} could go on with", "the name of a block"
            continue
        plain = first in layout.entry_blocks() and not (first.along or first.inline or first.skip or first.transforms)
        if (
            not plain
            or group_holder(layout, first) is not None
            or first.within != block.within
            or layout.rooted("folder")
        ):
            yield (
                block.place,
                f"{block.name} goes on with {block.like}, which is no plain row of entries without folders",
                "records of their own",
            )
        measures = set(_measures(layout, block.name))
        if not measures & {"count", "length"}:
            yield block.place, f"no field gives the count of {block.name}", f"u32  count of {block.name}"
        if block.at is None and "start" not in measures:
            yield (
                block.place,
                f"no field gives the start of {block.name}",
                f"block {block.name} after {block.like} repeats",
            )
    rows = {name for block in layout.blocks if block.like for name in (block.name, block.like)}
    for block in layout.blocks:
        for field in block.fields:
            summed = isinstance(field.meaning, ChecksumOf) and rows & set(field.meaning.parts)
            if summed and not block.like:
                yield field.place, f"`{field.words}` cannot mean all of two rows", "`kept`"
        if block.along in rows:
            yield block.place, f"{block.along} is in two rows: nothing goes along with it", "records of their own"


def without_rows(layout: Layout) -> Layout:
    """The layout without these rows, for what is said of the first holds for them too."""
    names = {block.name for block in layout.blocks if block.like}
    if not names:
        return layout

    def plain(field: Field) -> Field:
        of_row = isinstance(field.meaning, Measure) and field.meaning.part in names
        return replace(field, meaning=Opaque()) if of_row else field

    blocks = tuple(
        replace(block, fields=tuple(map(plain, block.fields))) for block in layout.blocks if block.name not in names
    )
    return replace(layout, blocks=blocks)


def _measures(layout: Layout, name: str) -> Iterator[str]:
    for block in layout.blocks:
        for field in block.fields:
            if isinstance(field.meaning, Measure) and field.meaning.part == name and not block.repeats:
                yield field.meaning.what
