"""What a layout says by expressions, in a file that was read: facts and measurements that read as one, fields that are
one."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from volvex.errors import FormatError
from volvex.layout.columns import Array
from volvex.layout.expression import Expression, sums_over_content, value_of
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Computed, Field, Layout, Measure, Told
from volvex.layout.read.blocks import Reading
from volvex.layout.read.compared import compare
from volvex.layout.read.scope import Facts, ReadScope, as_stored
from volvex.layout.records.numbers import LARGEST


def told_measure(reading: Reading, what: str, part: str) -> int | None:
    """A measurement that `reads as` an expression; None when the layout says nothing of it."""
    told = reading.layout.reads(Measure(what, part))
    if told is None:
        return None
    number = int(_value(reading, told.value, ReadScope(reading), told.words))
    if not 0 <= number < LARGEST:
        raise FormatError(reading.source.name, f"`{told.words}` gives {number:,}, which cannot be the {what} of {part}")
    return number


def told_fact(reading: Reading, told: Told, facts: Facts) -> Array:
    """A fact of all entries that `reads as` an expression."""
    home = reading.entry_blocks()[0]
    value = _value(reading, told.value, ReadScope(reading, home, facts), told.words)
    values = value.tolist() if isinstance(value, np.ndarray) else [value] * len(home.starts)
    for row, number in enumerate(values):
        if not -LARGEST < number < LARGEST:
            raise FormatError(
                reading.source.name,
                f"`{told.words}` gives {number:,}, which is larger than any file",
                offset=int(home.starts[row]),
                field=f"{home.block.name}[{row}]",
            )
    return np.array(values, np.int64)


def _value(reading: Reading, expression: Expression, scope: ReadScope, words: str) -> Any:
    try:
        return value_of(expression, scope)
    except FormatError:
        raise
    except (ArithmeticError, ValueError, TypeError, MemoryError) as error:
        raise FormatError(reading.source.name, f"`{words}` cannot be computed: {error}") from error


def facts_of(reading: Reading) -> Facts:
    """The facts of all entries of a file, by their names."""

    def fact(what: str) -> Array:
        of = reading.entries
        assert of is not None
        found: dict[str, Callable[[], Array]] = {
            attributes.START: lambda: of.start,
            attributes.END: lambda: of.start + of.stored,
            attributes.STORED: lambda: of.bare,
            attributes.SIZE: lambda: of.size,
            attributes.OWN_NUMBER: lambda: np.arange(len(of)),
        }
        column = np.empty(len(of), object)
        column[:] = found[what]().tolist()
        if what in (attributes.START, attributes.END) and reading.volumes:
            column -= _bases(reading)
        return column

    return fact


def _bases(reading: Reading) -> Array:
    assert reading.entries is not None
    bases = np.array([volume.base for volume in reading.volumes], np.int64)
    column = np.empty(len(reading.entries), object)
    column[:] = bases[np.searchsorted(bases, reading.entries.start, "right") - 1].tolist()
    return column


def computed_fields(layout: Layout) -> list[tuple[str, Field, Computed]]:
    """The fields that are expressions, with the blocks that they stand in."""
    return [
        (block.name, field, field.meaning)
        for block in layout.blocks
        for field in block.fields
        if isinstance(field.meaning, Computed)
    ]


def verify_computed(reading: Reading) -> None:
    """Nothing when all fields that are expressions hold what these give, as far as no content is needed for it;
    FormatError for the first that does not."""
    for name, field, meaning in computed_fields(reading.layout):
        block = reading.blocks.get(name)
        if block is None or not len(block.starts) or sums_over_content(meaning.value):
            continue
        scope = ReadScope(reading, block, facts_of(reading) if reading.entries is not None else None, field)
        wanted = as_stored(_value(reading, meaning.value, scope, field.words), field)
        compare(reading, block, field, wanted)
