"""Kept numbers that equal something: a measurement, alone or changed by another number, and how likely that is by
chance.

A number that is equal to a measurement is worth its own bits (300 has eight); of these go the bits of how many
measurements and changes were tried. What is left is the evidence, in bits: with eight, one number in 256 would fit by
chance.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from volvex.layout.columns import Texts
from volvex.layout.inspect.measured import measures
from volvex.layout.model import Field, IntegerType, Opaque, Raw
from volvex.layout.read.blocks import BlockRead, Reading

LEAST_COUNT, LEAST = 8, 24  # smaller measurements are equal by chance
LEAST_STALE = 16  # a smaller number that stays the same shows nothing
ENOUGH = 8.0  # bits of evidence for what is not a measurement as it is
ENOUGH_TOGETHER = 10.0  # and for what several files show together
ADDED = tuple(number for number in range(-16, 17) if number)
NEAR = tuple(sign * number for number in (1, 2, 4, 8, 12, 16, 20, 24, 32) for sign in (1, -1))
UNITS = (2, 4, 8, 10, 16, 32, 64, 100, 128, 256, 512, 1000, 1024, 2048, 4096, 65536)
SIZES = (2, 3, 4, 5, 6, 7, 8, 10, 12, 16, 20, 24, 28, 32, 36, 40, 44, 48, 56, 64, 80, 96, 128, 256)
WIDEST = 8  # bytes of raw bytes that are taken for a number

Measured = Mapping[str, int]


@dataclass(frozen=True)
class Form:
    """What a number may be: a measurement, or two, and what is done to it."""

    how: str  # nothing, +, /, up, *, sum, difference
    of: tuple[str, ...]
    number: int = 0

    @property
    def words(self) -> str:
        """As a layout says it."""
        one = self.of[0]
        if self.how == "+":
            return f"{one} {'+' if self.number > 0 else '-'} {abs(self.number)}"
        if self.how == "up":
            return f"({one} + {self.number - 1}) / {self.number}"
        if self.how in ("sum", "difference"):
            return f"{one} {'+' if self.how == 'sum' else '-'} {self.of[1]}"
        return f"{one} {self.how} {self.number}" if self.how else one

    def value(self, measured: Measured) -> int | None:
        """What it is in a file; None where that does not have it."""
        values = [measured.get(words) for words in self.of]
        if any(value is None for value in values):
            return None
        one = values[0] or 0
        two = (values[1] or 0) if len(values) > 1 else self.number
        return {
            "": lambda: one,
            "+": lambda: one + two,
            "/": lambda: one // two,
            "up": lambda: -(-one // two),
            "*": lambda: one * two,
            "sum": lambda: one + two,
            "difference": lambda: one - two,
        }[self.how]()


def forms(measured: Measured) -> Iterator[tuple[Form, float]]:
    """All that a number may be, each with the bits that it costs to try so many."""
    names = list(measured)
    pairs = [*((one, two) for one, two in itertools.combinations(names, 2) if not one.startswith("start"))]
    lengths = [name for name in names if name.startswith("length")]
    classes = (
        [Form("", (name,)) for name in names],
        [Form("+", ("length of file",), number) for number in NEAR],
        [Form(how, ("length of file",), unit) for how in ("/", "up") for unit in UNITS],
        [Form("+", (name,), number) for name in lengths for number in NEAR],
        [Form(how, (name,), unit) for name in names for how in ("/", "up") for unit in UNITS],
        [Form("+", (name,), number) for name in names for number in ADDED],
        [Form("*", (name,), size) for name in names for size in SIZES],
        [Form(how, pair) for pair in pairs for how in ("sum", "difference")],
    )
    for group in classes:
        for form in group:
            yield form, math.log2(max(2, len(group)))


@dataclass(frozen=True)
class Equal:
    """A kept number of a block that is one record, and what it equals; `at` and `size` are where in the field it
    lies."""

    block: str
    field: str
    at: int
    size: int
    big: bool
    form: Form
    value: int
    bits: float  # of evidence

    @property
    def where(self) -> str:
        """How it is called."""
        return f"{self.block}.{self.field}"

    def stored(self, reading: Reading) -> int | None:
        """What another file holds there; None when it has no such field."""
        block = reading.blocks.get(self.block)
        field = block.block.field(self.field) if block is not None else None
        found = {(at, size, big): value for at, size, big, value in kept_numbers(block, field)} if block else {}
        return found.get((self.at, self.size, self.big))


def kept_numbers(block: BlockRead, field: Field | None) -> Iterator[tuple[int, int, bool, int]]:
    """The numbers that a kept field may hold: where in it, of how many bytes, the highest first or not, and which."""
    if field is None or not isinstance(field.meaning, Opaque) or field.when is not None or not len(block.starts):
        return
    column = block.columns[field.name]
    if isinstance(column, Texts):
        return
    if isinstance(field.type, IntegerType):
        yield 0, field.type.fixed_size or 0, False, int(column[0])
    elif isinstance(field.type, Raw):
        raw = column[0].tobytes()
        if len(raw) <= WIDEST:
            for big in (False, True):
                yield 0, len(raw), big, int.from_bytes(raw, "big" if big else "little")
        else:
            yield from _within(raw)


def _within(raw: bytes) -> Iterator[tuple[int, int, bool, int]]:
    """The numbers of four bytes in a longer stretch."""
    for at in range(0, min(len(raw), 4096) - 3, 4):
        for big in (False, True):
            yield at, 4, big, int.from_bytes(raw[at : at + 4], "big" if big else "little")


def equals(reading: Reading) -> list[Equal]:
    """Of every kept number the likeliest thing that it equals, where the evidence is enough."""
    found = []
    for block, field in kept_fields(reading):
        numbers = list(kept_numbers(block, field))
        tried = math.log2(max(1, len(numbers)))
        measured = dict(measures(reading, block))
        candidates = list(forms(measured))
        for at, size, big, value in numbers:
            best = max(_fitting(value, measured, candidates), key=lambda one: one[1], default=None)
            if best is not None and _is_enough(best[0], value, best[1] - tried, len(numbers)):
                name = block.block.name
                found.append(Equal(name, field.name, at, size, big, best[0], value, best[1] - tried))
    return found


def _is_enough(form: Form, value: int, bits: float, numbers: int) -> bool:
    """Whether a number is not equal by chance: a measurement as it is has to be no small number; all else evidence."""
    if form.how or numbers > 2:
        return bits >= ENOUGH
    return value >= (LEAST_COUNT if form.of[0].startswith("count") else LEAST)


def _fitting(value: int, measured: Measured, candidates: Sequence[tuple[Form, float]]) -> Iterator[tuple[Form, float]]:
    """The forms that give a value, each with its evidence."""
    if value > 1:
        for form, cost in candidates:
            if form.value(measured) == value:
                yield form, math.log2(value) - (0 if not form.how else cost)


def kept_fields(reading: Reading) -> list[tuple[BlockRead, Field]]:
    """The kept fields of blocks that are one record."""
    return [
        (block, field)
        for block in reading.blocks.values()
        for field in block.block.fields
        if not block.block.repeats and isinstance(field.meaning, Opaque)
    ]


def stale(watched: Sequence[Equal], now: Reading) -> Equal | None:
    """The first kept number that equalled something that has changed since, and does not any more."""
    for one in watched:
        if one.size < 2 or one.value < LEAST_STALE:  # of one byte a number in twenty equals something
            continue
        block = now.blocks.get(one.block)
        value = one.form.value(dict(measures(now, block))) if block is not None else None
        if value is not None and value != one.value and one.stored(now) not in (None, value):
            return one
    return None


@dataclass(frozen=True)
class Moving:
    """A kept number that differs between files: its values, and what it is in all of them (empty: nothing known)."""

    where: str
    line: str
    values: tuple[int, ...]
    words: str


def moving(readings: Sequence[Reading]) -> Iterator[Moving]:
    """The kept numbers that differ between files of one layout, and with what they move."""
    first = readings[0]
    for block, field in kept_fields(first):
        if not isinstance(field.type, IntegerType):
            continue
        blocks = [reading.blocks.get(block.block.name) for reading in readings]
        if any(one is None or one.block.field(field.name) is None for one in blocks):
            continue
        own = [one for one in blocks if one is not None]
        values = tuple(int(np.asarray(one.numbers(field.name))[0]) for one in own if len(one.starts))
        if len(set(values)) < 2 or len(values) != len(readings):
            continue
        measured = [dict(measures(reading, one)) for reading, one in zip(readings, own, strict=True)]
        bits = sum(math.log2(value) for value in set(values) if value > 1)
        fitting = [
            (cost, form)
            for form, cost in forms(measured[0])
            if all(form.value(one) == value for one, value in zip(measured, values, strict=True))
        ]
        cost, form = min(fitting, key=lambda one: one[0], default=(0.0, None))
        words = form.words if form is not None and bits - cost >= ENOUGH_TOGETHER else _linear(values, measured)
        yield Moving(f"{block.block.name}.{field.name}", f"{field.name}  {field.shape}", values, words)


def _linear(values: Sequence[int], measured: Sequence[Measured]) -> str:
    """A measurement times a number and more: two files give the two numbers, a third shows that they hold."""
    for name in measured[0]:
        points = sorted({(one[name], value) for one, value in zip(measured, values, strict=True) if name in one})
        if len(points) < 3 or len({x for x, _ in points}) < len(points):
            continue
        (x0, y0), (x1, y1) = points[0], points[1]
        times, rest = divmod(y1 - y0, x1 - x0)
        if rest or times < 1 or any(y - y0 != times * (x - x0) for x, y in points):
            continue
        more = y0 - times * x0
        if abs(more) <= 1 << 16:
            return f"{name} * {times} {'+' if more >= 0 else '-'} {abs(more)}"
    return ""
