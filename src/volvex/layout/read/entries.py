"""The entries of an archive, from the fields that tell their facts."""

from __future__ import annotations

import functools
from collections.abc import Callable
from typing import Any

import numpy as np

from volvex.errors import FRESH, FormatError
from volvex.layout.columns import Array, Texts
from volvex.layout.entries import Entries
from volvex.layout.kinds import archive as attributes
from volvex.layout.model import Attribute, Condition, When
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.read.facts import condition_field
from volvex.layout.read.groups import group_rows
from volvex.layout.read.names import names_of
from volvex.layout.read.sizes import decoded_sizes
from volvex.layout.records.numbers import holds


def entries_of(reading: Reading) -> Entries:
    """All entries of a file whose blocks are found; FormatError when their facts cannot be right."""
    names, nameless = names_of(reading)
    count = len(names)
    start = _start(reading, count)
    stored, size = column_of(reading, attributes.STORED), column_of(reading, attributes.SIZE)
    if reading.layout.content.until_next:
        stored = (_until_next(reading, start), np.ones(count, bool))
    end = column_of(reading, attributes.END)
    if end is not None:
        base = _bases(reading, count) if reading.volumes else 0
        stored = (end[0] + base - start, end[1])
    whole_stored, whole_size = _both(stored, size)
    if reading.layout.content.after:
        start = _in_a_row(reading, whole_stored)
    codec, codecs = _codecs(reading, count, whole_stored, whole_size)
    sizes: Array | Callable[[], Array] = whole_size
    if size is None and any(name != "none" for name in codecs):
        sizes = functools.partial(decoded_sizes, reading)
    framed = None
    if reading.layout.content.head or reading.layout.content.tail:
        from volvex.layout.read.frames import frame_sizes  # few layouts have such records

        framed = frame_sizes(reading, start)
        whole_stored = whole_stored + framed
    kind = column_of(reading, attributes.KIND)
    folders = _are_folders(reading, kind[0]) if kind else _named_folders(names)
    return Entries(names, start, whole_stored, sizes, codec, codecs, nameless, folders, framed)


MaskedColumn = tuple[Array, Array]  # the numbers, and for which entries they are told


def column_of(reading: Reading, what: str) -> MaskedColumn | None:
    """A fact's true numbers for all entries, from the field or fields that tell it."""
    found: MaskedColumn | None = None
    for block, field in reading.attributes(what):
        numbers, values = reading.decode_numbers(block, field), block.present(field)
        if found is None:
            found = numbers, values
        else:
            found = np.where(values, numbers, found[0]), values | found[1]
    if found is None and (told := reading.layout.reads(Attribute(what))) is not None:
        from volvex.layout.read.computed import told_fact  # few layouts have expressions

        numbers = told_fact(reading, told, lambda other: _earlier(reading, what, other))
        return numbers, np.ones(len(numbers), bool)
    return found


def _earlier(reading: Reading, what: str, other: str) -> Array:
    """A fact that another `reads as` something with it."""
    if other == attributes.OWN_NUMBER:
        return np.arange(len(entry_home(reading).starts))
    if other == what:
        raise FormatError(reading.source.name, f"`{what}` reads as something made of itself")
    found = column_of(reading, other)
    if found is None:
        raise FormatError(reading.source.name, f"`{what}` is made of {other}, which nothing stores")
    return found[0]


def entry_home(reading: Reading) -> BlockRead:
    """A block that has a record for each entry."""
    return reading.entry_blocks()[0]


def _start(reading: Reading, count: int) -> Array:
    for block in reading.blocks.values():
        if block.ends is not None:
            ends: Array = block.ends
            return np.asarray(ends + -ends % reading.layout.content.align)
    told = column_of(reading, attributes.START)
    start = told[0] if told is not None else np.zeros(count, np.int64)
    return start + _bases(reading, count) if reading.volumes else start


def _in_a_row(reading: Reading, stored: Array) -> Array:
    """Where contents start that lie behind a block, one behind the other, each at the next multiple of its
    alignment."""
    content, at = reading.layout.content, reading.edge("end", reading.layout.content.after)
    if content.align == 1:
        return at + np.cumsum(stored) - stored
    starts = np.empty(len(stored), np.int64)
    for row, size in enumerate(stored.tolist()):
        at += -at % content.align
        starts[row] = at
        at += size
    return starts


def volume_numbers(reading: Reading) -> list[int]:
    """The numbers of all volumes that entries lie in; a single 0 when they have none."""
    told = column_of(reading, attributes.VOLUME)
    return sorted(set(told[0].tolist())) if told is not None else [0]


def _bases(reading: Reading, count: int) -> Array:
    """Where the volume of each entry starts in the source of all."""
    told = column_of(reading, attributes.VOLUME)
    if told is None:
        return np.zeros(count, np.int64)
    numbers = np.array([volume.number for volume in reading.volumes])
    bases = np.array([volume.base for volume in reading.volumes], np.int64)
    return bases[np.searchsorted(numbers, told[0])]


def volume_of(reading: Reading, start: Array) -> Array:
    """The index of the volume in which each place lies."""
    bases = np.array([volume.base for volume in reading.volumes], np.int64)
    return np.searchsorted(bases, start, "right") - 1


def _both(stored: MaskedColumn | None, size: MaskedColumn | None) -> tuple[Array, Array]:
    """Stored sizes and sizes: where one is not told it is the other."""
    known = stored or size
    assert known is not None  # the kind sees to that
    stored, size = stored or known, size or known
    return np.where(stored[1], stored[0], size[0]), np.where(size[1], size[0], stored[0])


def _until_next(reading: Reading, starts: Array) -> Array:
    """Sizes that nothing tells: each content ends where the next one, a block, a part or the file does.

    Of entries that start at the same place all but the last are empty.
    """
    source, within = reading.content_source, reading.layout.content.within
    edges = [block.start for block in reading.blocks.values() if block.block.within == within]
    edges += [area.start for area in reading.areas.values()] if not within else []
    order = np.argsort(starts, kind="stable")
    ends = np.array(sorted([*edges, source.size]), np.int64)
    bounds = ends[np.minimum(np.searchsorted(ends, starts[order], "left"), len(ends) - 1)]
    following = np.append(starts[order][1:], source.size)
    sizes = np.empty(len(starts), np.int64)
    sizes[order] = np.minimum(bounds, following) - starts[order]
    return sizes


def _codecs(reading: Reading, count: int, stored: Array, size: Array) -> tuple[Array, list[str]]:
    """Which codec each entry has, and the codecs' names."""
    content, told = reading.layout.content, column_of(reading, attributes.CODEC)
    if told is not None:
        return _numbered_codecs(reading, told, count)
    if content.codec and content.differing:
        return (stored != size).astype(np.int64), ["none", content.codec]
    return np.zeros(count, np.int64), [content.codec or "none"]


def _numbered_codecs(reading: Reading, column: MaskedColumn, count: int) -> tuple[Array, list[str]]:
    found = reading.attribute(attributes.CODEC)
    assert found is not None and isinstance(found[1].meaning, Attribute)
    codecs = [name for _, name in found[1].meaning.table]
    index = np.full(count, -1, np.int64)
    for position, (number, _) in enumerate(found[1].meaning.table):
        index[column[0] == number] = position
    index[~column[1]] = codecs.index("none") if "none" in codecs else -1
    return index, codecs


def _are_folders(reading: Reading, numbers: Array) -> Array:
    found = reading.attribute(attributes.KIND)
    assert found is not None and isinstance(found[1].meaning, Attribute)
    return np.isin(numbers, [number for number, word in found[1].meaning.table if word == "folder"])


def _named_folders(names: Texts) -> Array | None:
    """Entries whose names end in a slash."""
    if not len(names) or not names.data:
        return None
    flat = np.frombuffer(names.data, np.uint8)
    last = np.where(names.lengths > 0, names.starts + names.lengths - 1, 0)
    found = (names.lengths > 0) & np.isin(flat[last], (0x2F, 0x5C))
    return found if found.any() else None


def check_entries(reading: Reading, entries: Entries, lenient: bool = False) -> None:
    """Every entry lies within its source (unless `lenient`) and on none of the blocks; FormatError otherwise."""
    end = entries.start + entries.stored
    negative = (entries.start < 0) | (entries.stored < 0)
    if entries.sized:
        negative |= entries.size < 0
    _refuse(reading, negative, attributes.START, lambda row: "a place or size below zero")
    source, within = reading.content_source, reading.layout.content.within
    _refuse(
        reading,
        (end > source.size) & (entries.stored > 0) & (not lenient),
        attributes.START,
        lambda row: (
            f"{int(entries.stored[row])} bytes of content from {int(entries.start[row]):#x} on reach past the end of "
            f"the file at {source.size:#x}"
        ),
    )
    if reading.volumes:
        ends = np.array([volume.base + volume.source.size for volume in reading.volumes], np.int64)
        across = (end > ends[volume_of(reading, entries.start)]) & (entries.stored > 0)
        _refuse(
            reading,
            across,
            attributes.START,
            lambda row: f"{int(entries.stored[row])} bytes of content reach past the end of its volume",
        )
        return
    taken = [
        (block.block.name, block.start, block.end)
        for block in reading.blocks.values()
        if block.ends is None and block.block.within == within and block.owners is None
    ]
    grouped = [block for block in reading.blocks.values() if block.regions is not None and block.block.within == within]
    taken += [(block.block.name, start, start + size) for block in grouped for start, size, *_ in group_rows(block)]
    if not within:
        taken += [(area.part.name, area.start, area.start + area.stored) for area in reading.areas.values()]
    for name, first, last in taken:
        on = (entries.start < last) & (end > first) & (entries.stored > 0)
        _refuse(
            reading,
            on,
            attributes.START,
            lambda row, name=name, first=first: (
                f"content at {int(entries.start[row]):#x} overlaps {name} at {first:#x}"
            ),
        )


def _refuse(reading: Reading, wrong: Array, what: str, say: Any) -> None:
    if not wrong.any():
        return
    row = int(np.argmax(wrong))
    found = reading.attribute(what) or reading.attribute(attributes.STORED) or reading.attribute(attributes.SIZE)
    assert found is not None
    block, field = found
    sized = reading.attribute(attributes.STORED) or reading.attribute(attributes.SIZE)
    asked = f"is `{field.name}` counted in sectors, from another place, or in the other order of bytes?"
    if sized is not None and sized[1] is not field:
        asked = f"{asked.rstrip('?')}, or has `{sized[1].name}` another width?"
    raise FormatError(
        block.source.name,
        say(row),
        offset=block.offset(row, field.name),
        field=block.where(row, field.name),
        hint=FRESH,
        asked=f"the layout: {asked}",
    )


def placing_of(reading: Reading) -> tuple[Array, Array]:
    """The alignment and the padding of each entry's content."""
    assert reading.entries is not None
    content, count = reading.layout.content, len(reading.entries)
    align, fill = np.full(count, content.align, np.int64), np.full(count, content.fill, np.int64)
    for other in content.others:
        there = condition_mask(reading, other.when)
        align[there], fill[there] = other.align, other.fill
    return align, fill


def condition_mask(reading: Reading, when: When) -> Array:
    """For which entries a condition holds."""
    mask: Array = when.asked(lambda test: _tested(reading, test))
    return mask


def _tested(reading: Reading, when: Condition) -> Array:
    if when.how == "ends":
        assert reading.entries is not None
        extension = when.value if isinstance(when.value, bytes) else b""
        return np.array([raw.lower().endswith(extension.lower()) for raw in reading.entries.names.raws()], bool)
    block, field = condition_field(reading, when)
    return holds(when, block.columns[field.name])
