"""What ciphers around content need: keys from what is known of an entry before its content is stored."""

from __future__ import annotations

import difflib
from collections.abc import Iterator, Mapping

from volvex.codec import CIPHER
from volvex.errors import UsageError
from volvex.layout.expression import BytesOf, FieldOf, MeasureOf, SumOf, walk
from volvex.layout.model import Attribute, Computed, Derived, Field, Layout, Place, Transform
from volvex.layout.transforms import KeyFacts, made_codec, tried

Problem = tuple[Place, str, str]  # where, what, hint
CODEC = "codec of content"
MOVING = (
    "start of content",
    "stored size of content",
    "size of content",
    "end of content",
    "volume of content",
)


def check_ciphers(layout: Layout, attributes: Mapping[str, Field]) -> Iterator[Problem]:
    """What is wrong with the ciphers of content: their keys, their conditions, their parameters."""
    own = {field.name: field for block in layout.entry_blocks() for field in block.fields}
    moving = {attributes[what].name for what in MOVING if what in attributes}
    moving |= {field.name for field in own.values() if isinstance(field.meaning, Computed)}
    for transform in layout.content.transforms:
        for derived in transform.derived:
            yield from _check_field(transform, derived, own, moving)
            yield from _check_value(layout, transform, derived, own, moving)
        yield from _check_condition(
            transform, own, moving | ({attributes[CODEC].name} if CODEC in attributes else set())
        )
        yield from _check_size(layout, transform, attributes)
        if transform.name not in CIPHER:
            yield transform.place, f"there is no cipher called {transform.name}", f"one of {', '.join(CIPHER.names())}"
            continue
        try:  # as it would be for some entry
            made_codec(tried(transform), KeyFacts(b"sixteen/letters.", 1, 1, 1))
        except UsageError as error:
            yield transform.place, error.message, error.hint


def _check_size(layout: Layout, transform: Transform, attributes: Mapping[str, Field]) -> Iterator[Problem]:
    packed = CODEC in attributes or layout.content.codec
    sized = MOVING[2] in attributes or layout.reads(Attribute(MOVING[2])) is not None
    if packed and not sized and any("size" in derived.asks for derived in transform.derived):
        yield transform.place, "a key from the size of content, which no field gives", f"a field `{MOVING[2]}`"


def _check_field(
    transform: Transform, derived: Derived, own: Mapping[str, Field], moving: set[str]
) -> Iterator[Problem]:
    name = derived.field
    if name and name not in own:
        near = difflib.get_close_matches(name, sorted(own), 1)
        problem = f"`key from field {name}`: the entries have no field {name}"
        yield transform.place, problem, near[0] if near else "a field of their records"
    elif name in moving:
        problem = f"`key from field {name}`: `{name}` is known only when the content is stored"
        yield transform.place, problem, "key from size, stored or start"


def _check_value(
    layout: Layout, transform: Transform, derived: Derived, own: Mapping[str, Field], moving: set[str]
) -> Iterator[Problem]:
    for one in walk(derived.value) if derived.value is not None else ():
        if isinstance(one, FieldOf):
            block, _, rest = one.name.partition(".")
            home = layout.block(block)
            asked = own.get(one.name) or (home.field(rest) if home is not None and not home.repeats else None)
            if asked is None:
                near = difflib.get_close_matches(one.name, sorted(own), 1)
                yield (
                    transform.place,
                    f"a key from `{one.name}`: there is no such field",
                    near[0] if near else "head.seed",
                )
            elif one.name in moving or isinstance(asked.meaning, Computed):
                problem = f"a key from `{one.name}`, which is known only when the content is stored"
                yield transform.place, problem, "`start of content`, `size of content`, or a field that is kept"
        elif isinstance(one, MeasureOf | BytesOf) or (isinstance(one, SumOf) and isinstance(one.of, str)):
            yield (
                transform.place,
                "a key from what is measured is known only when all is written",
                "a field that is kept",
            )


def _check_condition(transform: Transform, own: Mapping[str, Field], moving: set[str]) -> Iterator[Problem]:
    for test in transform.when.tests if transform.when is not None else ():
        if test.field not in own or test.how == "ends":
            near = difflib.get_close_matches(test.field, sorted(own), 1)
            problem = f"`content when {test}`: the entries have no field {test.field}"
            yield transform.place, problem, near[0] if near else "a field of their records"
        elif test.field in moving:
            yield transform.place, f"`content when {test}`: that may change with the content", "a field that is kept"
