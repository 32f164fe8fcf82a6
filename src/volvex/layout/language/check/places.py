"""What makes the places of blocks and parts unsound."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.codec import CIPHER, COMPRESS
from volvex.codec.parameters import Spec
from volvex.errors import UsageError
from volvex.layout.expression import FieldOf, Literal, Made, walk
from volvex.layout.kinds import kind_of
from volvex.layout.model import Attribute, Block, Constant, Layout, Measure, Opaque, Part, Place, Transform
from volvex.layout.order import grows, is_measured, measures, reading_order
from volvex.layout.transforms import is_expression, keeps_size, tried
from volvex.layout.volumes import wrong_file

Problem = tuple[Place, str, str]  # where, what, hint


def check_at(layout: Layout) -> Iterator[Problem]:
    """Places that cannot be: not at the multiple that the block asks for, or too near to the end."""
    for place in layout.places:
        at = place.at
        if at is None or at.mark or at.after:
            continue
        within = isinstance(place, Block) and (
            place.within or place.inline
        )  # of a row only the records behind the first are aligned
        if at.fixed and at.offset % place.align and not within:
            yield (
                place.place,
                f"{place.name} is at {at.offset}, which is no multiple of {place.align}",
                f"at {at.offset - at.offset % place.align}, or another align",
            )
        least = (
            sum(field.type.min_size for field in place.fields if field.when is None)
            if isinstance(place, Block) and not place.repeats
            else 0
        )
        if at.from_end and least > at.offset:
            yield (
                place.place,
                f"{place.name} has {least} bytes, and starts {at.offset} before the end",
                f"at end - {least}",
            )
        if at.from_end and layout.end != (1, 0):
            yield (
                place.place,
                f"{place.name} is found from the end of the file, and `file align` puts padding there",
                f"leaving one of them out; `align` of {place.name} puts padding before it",
            )
    for number, one in enumerate(layout.known):
        for other in layout.known[:number]:
            if one.names or other.names:
                continue
            together = any(a.startswith(b) or b.startswith(a) for a in one.values for b in other.values)
            if one.at == other.at and not together:
                yield (
                    layout.place,
                    f"no file is known by {one.value!r} and by {other.value!r} at the same place",
                    "`known by ... or ...` for one of the two",
                )


def check_places(layout: Layout) -> Iterator[Problem]:
    """Places that depend on each other in a circle: told when all else is right, since most of them come from other
    mistakes."""
    found = {one.name for one in reading_order(layout)}
    for place in layout.places:
        if place.name not in found:
            yield (
                place.place,
                f"where {place.name} is can only be known after it was read",
                f"`block {place.name} at ...`",
            )


def check_starts(layout: Layout) -> Iterator[Problem]:
    """Every block has a place, and every row of records an end."""
    found = {one.name for one in reading_order(layout)}
    known = measures(layout)
    for place in layout.places:
        started = is_measured(layout, known, "start", place.name)
        if place.name not in found and place.at is None and not started:
            yield (
                place.place,
                f"no field gives the start of {place.name}",
                f"`at 0`, or a field with the meaning `start of {place.name}`",
            )
    for block in layout.blocks:
        count = (
            block.along
            or any(is_measured(layout, known, what, block.name) for what in ("count", "length", "end"))
            or grows(block)
        )
        if block.repeats and not count and block.until is None:
            yield (
                block.place,
                f"no field gives the count of {block.name}",
                f"a field with the meaning `count of {block.name}`",
            )


def check_part(layout: Layout, part: Part) -> Iterator[Problem]:
    if part.file:
        yield from _check_file(layout, part)
    lengths = {
        field.meaning.what
        for block in layout.blocks
        for field in block.fields
        if isinstance(field.meaning, Measure) and field.meaning.part == part.name
    } | {told.fact.what for told in layout.told if isinstance(told.fact, Measure) and told.fact.part == part.name}
    if not part.file and part.reach is None and part.cut is None and not lengths & {"length", "stored length", "end"}:
        yield (
            part.place,
            f"no field gives the length of {part.name}",
            f"a field with the meaning `stored length of {part.name}`, or `until end`",
        )
    if (
        part.reach is not None
        and part.reach.to == "records"
        and not all(keeps_size(transform) for transform in part.transforms)
    ):
        yield (
            part.place,
            f"{part.name} is as long as its records only where ciphers keep the size",
            "a field that measures it",
        )
    for transform in part.transforms:
        if transform.name not in CIPHER and transform.name not in COMPRESS:
            known = ", ".join((*CIPHER.names(), *COMPRESS.names()))
            yield transform.place, f"there is no cipher and no compression called {transform.name}", f"one of {known}"
        elif any(not is_expression(derived) for derived in transform.derived):
            yield transform.place, f"{part.name} is no entry: its key cannot come `from` one", "key hex 4b 57"
        else:
            try:
                (CIPHER if transform.name in CIPHER else COMPRESS).make(Spec(transform.name, tried(transform).given))  # type: ignore[arg-type]
            except UsageError as error:
                yield transform.place, error.message, error.hint
            yield from _check_part_key(layout, part, transform)
    if not any(block.within == part.name for block in layout.blocks) and (
        layout.content.within != part.name or part.file
    ):
        yield part.place, f"nothing lies in {part.name}", f"block ... in {part.name} at 0"


def _check_part_key(layout: Layout, part: Part, transform: Transform) -> Iterator[Problem]:
    """The key of a part comes from fields that are there before it is opened, and stay as they are."""
    for derived in transform.derived:
        for one in walk(derived.value) if derived.value is not None else ():
            if isinstance(one, FieldOf):
                home, _, rest = one.name.partition(".")
                block = layout.block(home)
                asked = block.field(rest) if block is not None and not block.repeats else None
                fixed = asked is not None and isinstance(asked.meaning, Opaque | Constant)
                if not fixed or block is None or block.within == part.name:
                    yield transform.place, f"a key from `{one.name}`, which is no field that is kept", "head.seed"
            elif not isinstance(one, Literal | Made):
                yield transform.place, f"{part.name} is no entry: its key cannot come from one", "a field: head.seed"


def _check_file(layout: Layout, part: Part) -> Iterator[Problem]:
    """What is wrong with a part that is a file beside this one: in it lies only what is never written."""
    if problem := wrong_file(part.file):
        yield part.place, problem, f'part {part.name} in file "{{name}}.colours"'
    own = getattr(kind_of(layout.kind), "BESIDE", ())
    for block in layout.blocks:
        if block.within != part.name:
            continue
        for field in block.fields:
            outside = isinstance(field.meaning, Attribute) and field.meaning.of in own
            if not outside and not isinstance(field.meaning, Constant | Opaque):
                yield field.place, f"{field.name} cannot lie in a file beside this one", "a place in this file"
