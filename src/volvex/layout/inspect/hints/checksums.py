"""Checksums: numbers that are `kept`, and are a checksum of what the file has."""

from __future__ import annotations

import contextlib
import functools
import itertools
from collections.abc import Callable, Iterator

import numpy as np

from volvex.codec import CHECKSUM
from volvex.errors import VolvexError
from volvex.layout.checksums import checksum_value, stored_checksum, without
from volvex.layout.columns import Texts
from volvex.layout.expression import NameOf
from volvex.layout.inspect.hints._hint import Hint
from volvex.layout.model import Field, Number, Opaque, Raw
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.read.names import own_names

LEAST = 4  # bytes of a checksum that a file has once: two would fit by chance
FEWEST = 3  # bytes of different checksums that records must have: fewer would fit by chance
MASKED = 8  # and of those under a mask that no one knows
SAMPLE = 8  # entries that must all fit
WIDTHS = (8, 16, 32, 64)

Part = tuple[str, Callable[[int], bytes | None]]  # as a layout says it, and its bytes by record; None: nothing there
ITSELF = " without itself"
LARGEST = 1 << 24  # bytes that are summed for each


def hints(reading: Reading) -> Iterator[Hint]:
    return kept_checksums(reading)


def kept_checksums(reading: Reading, of_entry: Part | None = None) -> Iterator[Hint]:
    """Kept fields that are checksums of parts of the file or of records; with `of_entry` of what that gives for each
    entry, alone."""
    for block in reading.blocks.values():
        for field in block.block.fields:
            size = _size(field)
            single = not block.block.repeats
            if not isinstance(field.meaning, Opaque) or (single and field.when is not None) or not size:
                continue
            numbers = _told(block, field)
            if not any(numbers) or (size < LEAST if single else len(set(numbers)) < max(2, FEWEST // size)):
                continue
            if of_entry is not None:
                entries = reading.entries
                same = block.block.repeats and entries is not None and len(entries) == len(block.starts)
                parts = iter([of_entry] if same else [])
            else:
                parts = (
                    itertools.chain(_of_records(reading, block), _own_records(block, field))
                    if block.block.repeats
                    else itertools.chain(_of_parts(reading, block), _with_own(reading, block, field))
                )
            found = next(_fits(numbers, _rows(block, field, numbers), parts, size), None)
            if found is not None:
                where = f"{block.block.name}.{field.name}"
                said = f"is {found}" if " of name" in found or " xor " in found else found
                said += f"  when {field.when}" if field.when is not None else ""
                yield Hint(where, f"{where} is the {found}", f"{field.name}  {field.shape}  {said}")


def _rows(block: BlockRead, field: Field, numbers: list[int]) -> list[int]:
    """Some records that have the field, of different values where there are such."""
    there = np.flatnonzero(block.present(field))[: len(numbers)]
    values = np.array([numbers[row] % (1 << 62) for row in there.tolist()], np.int64)
    _, first = np.unique(values, return_index=True)
    chosen = there[np.sort(first)]
    return chosen[np.unique(np.linspace(0, len(chosen) - 1, SAMPLE).astype(int))].tolist() if len(chosen) else []


def _size(field: Field) -> int:
    return field.type.fixed_size or 0 if isinstance(field.type, Number | Raw) else 0


def _told(block: BlockRead, field: Field) -> list[int]:
    """The values of some records, as a checksum of the field's type would be."""
    column = block.columns[field.name]
    if isinstance(column, Texts):
        return []
    rows = range(len(block.starts)) if block.block.repeats else range(min(1, len(block.starts)))
    return [stored_checksum(field, column, row) for row in rows]


def _with_own(reading: Reading, own: BlockRead, field: Field) -> Iterator[Part]:
    """The record that a field stands in, with the field's bytes as zeros or left out; alone, and with each other block
    behind it."""
    at, size = own.offset(0, field.name) - own.start, _size(field)
    others = [(name, block.data) for name, block in reading.blocks.items() if block is not own and block.ends is None]
    for skips in (False, True):
        data, end = without(own.data, at, size, skips), ITSELF if skips else ""
        yield f"{own.block.name}{end}", lambda row, data=data: data  # type: ignore[misc]
        for name, other in others:
            if 0 < len(other) <= LARGEST:
                yield f"{own.block.name} and {name}{end}", lambda row, data=data + other: data  # type: ignore[misc]


def _of_parts(reading: Reading, own: BlockRead) -> Iterator[Part]:
    for name, block in reading.blocks.items():
        if block.ends is not None and block.end - block.start <= LARGEST:
            yield name, lambda row, block=block: block.source.peek(block.start, block.end - block.start)  # type: ignore[misc]
        elif block is not own and block.ends is None and 0 < len(block.data) <= LARGEST:
            yield name, lambda row, block=block: block.data  # type: ignore[misc]
    for name, area in reading.areas.items():
        if max(area.stored, area.source.size) <= LARGEST:
            yield name, lambda row, area=area: reading.source.peek(area.start, area.stored)  # type: ignore[misc]
            yield f"what {name} holds", lambda row, area=area: area.source.peek(0, area.source.size)  # type: ignore[misc]
    entries = reading.entries
    if entries is not None and len(entries) and int(entries.stored.max()) and not reading.volumes:
        there = entries.stored > 0
        first, last = int(entries.start[there].min()), int((entries.start + entries.stored)[there].max())
        if last - first <= LARGEST:
            yield "contents", lambda row: reading.content_source.peek(first, last - first)
    if not own.block.within and reading.source.size <= LARGEST:
        yield f"file after {own.block.name}", lambda row: reading.source.peek(own.end, reading.source.size - own.end)
        yield f"file before {own.block.name}", lambda row: reading.source.peek(0, own.start)


def _of_records(reading: Reading, block: BlockRead) -> Iterator[Part]:
    entries = reading.entries
    if entries is None or len(entries) != len(block.starts):
        return

    def stored(row: int) -> bytes | None:
        size = int(entries.stored[row])
        return reading.content_source.peek(int(entries.start[row]), size) if 0 < size <= LARGEST else None

    yield "stored content", stored
    names = own_names(reading)
    if names is not None and len(names) == len(entries):
        yield "name", names.raw
        yield "lower name", lambda row: names.raw(row).lower()
        yield "upper name", lambda row: names.raw(row).upper()
    whole = entries.names
    for separator, words in (("\\", "name with backslashes"), ("/", "name with slashes")):
        spelled = NameOf("name", "", separator)
        yield words, lambda row, of=spelled: of.of(whole.raw(row), whole.encoding)  # type: ignore[misc]
    for part in ("leaf", "folder", "extension"):
        for case in ("", "lower", "upper"):
            of = NameOf(part, case)
            words = f"{case} {part} of name".strip()
            yield words, lambda row, of=of: of.of(whole.raw(row), whole.encoding)  # type: ignore[misc]


def _own_records(block: BlockRead, field: Field) -> Iterator[Part]:
    """The records of a block themselves, the field's bytes as zeros or left out."""
    pieces = block.records.pieces(block.columns)

    def own(row: int, skips: bool) -> bytes:
        data = b"".join(parts[row] for parts in pieces)
        return without(data, block.offset(row, field.name) - int(block.starts[row]), _size(field), skips)

    for skips in (False, True):
        yield f"record{ITSELF if skips else ''}", lambda row, skips=skips: own(row, skips)  # type: ignore[misc]


def _fits(numbers: list[int], rows: list[int], parts: Iterator[Part], size: int) -> Iterator[str]:
    """The checksums that all sampled values are, plain or under one mask, as a layout says them."""
    ones = (1 << 8 * size) - 1
    for part, bytes_of in parts:
        data = {row: one for row in rows if (one := bytes_of(row))}
        different = len(set(data.values()))
        if len(data) < min(2, len(numbers)):
            continue
        for algorithm in algorithms(8 * size):
            mask, fits = None, True
            for row, one in data.items():
                found = checksum_value(algorithm, one) ^ numbers[row]
                mask = found if mask is None else mask
                fits = fits and found == mask
                if not fits or (mask not in (0, ones) and len(numbers) == 1):
                    fits = False
                    break
            masked = different * size >= MASKED or mask == ones
            if fits and mask is not None and (mask == 0 or masked):
                yield f"{algorithm} of {part}" + (f" xor {mask:#x}" if mask else "")


@functools.cache
def algorithms(bits: int) -> tuple[str, ...]:
    """The checksums and hashes of so many bits, as a layout names them."""
    found: dict[str, None] = {}
    for name in CHECKSUM.names():
        for spec in (name, *(f"{name}(bits {width})" for width in WIDTHS)):
            with contextlib.suppress(VolvexError):
                if CHECKSUM.get(spec).bits == bits and (spec == name or name not in found):
                    found[spec] = None
    return tuple(found)


def checksum_bits(field: Field) -> int:
    """The bits of a checksum's field."""
    return 8 * _size(field)
