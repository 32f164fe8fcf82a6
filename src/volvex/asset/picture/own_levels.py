"""Where the levels of a picture by a layout lie: in its own file, in a row or by a table of starts, and in files beside
it.

Each surface may be wrapped by itself. One that was not changed keeps its stored bytes.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np

from volvex.asset.layout_facts import number_of
from volvex.codec.pixels.order import PixelLayout
from volvex.errors import FRESH, ContentError, FormatError, RefusedError
from volvex.layout.columns import Array
from volvex.layout.kinds import texture as attributes
from volvex.layout.model import Layout, Part
from volvex.layout.read.blocks import Reading
from volvex.layout.transforms import unwrapped, wrapped
from volvex.layout.volumes import NUMBERED, opened_beside, volume_name

OWN = ""  # in place of the name of a file: the picture's own
Size = tuple[int, int, int]  # width, height, depth


@dataclass(frozen=True)
class Span:
    """A level of one image: in which file it lies, from where on, its stored bytes, and those that its pixels take."""

    image: int
    level: int
    file: str
    start: int
    stored: int
    size: int


@dataclass
class Stored:
    """The bytes of a picture's levels, by file, and where in them each lies."""

    spans: list[Span]
    data: dict[str, Array] = field(default_factory=dict)


def pixels_of_files(reading: Reading, levels: int) -> dict[str, Array]:
    """The bytes of all files in which levels of a picture lie; FormatError when one is missing."""
    data = {OWN: own_pixels(reading)}
    for name in dict.fromkeys(_files(reading, _apart(reading, levels))):
        with opened_beside(reading.source.name, name, reading.source.beside) as source:
            data[name] = np.frombuffer(b"".join(source.chunks(0, source.size)), np.uint8)
    return data


def _apart(reading: Reading, levels: int) -> int:
    """How many levels lie in files of their own."""
    return levels - min(levels, number_of(reading, attributes.HERE, 0 if reading.layout.content.volumes else levels))


def find_levels(
    reading: Reading, data: dict[str, Array], own: PixelLayout, size: Size, levels: int, images: int
) -> Stored:
    """All levels of a picture in the bytes of its files; FormatError when they are not all there."""
    table = _table(reading)
    spans = _placed(reading, own, size, levels, images, _apart(reading, levels), table)
    for span in spans:
        if span.start < 0 or span.start + span.stored > len(data[span.file]):
            raise FormatError(
                reading.source.name if span.file == OWN else span.file,
                f"level {span.level} ends {span.start + span.stored:,} bytes into the pixels, which have "
                f"{len(data[span.file]):,}",
                hint=FRESH,
            )
        if not reading.layout.content.transforms and span.stored < span.size:
            raise FormatError(
                reading.source.name,
                f"level {span.level} has {span.stored:,} bytes, its pixels take {span.size:,}",
                hint=FRESH,
                asked="another layout: are levels wrapped?",
            )
    _require_apart(reading.source.name, spans)
    return Stored(spans, data)


def _require_apart(name: str, spans: Sequence[Span]) -> None:
    """FormatError for levels that share bytes: a change of one would reach another."""
    order = sorted((span for span in spans if span.stored), key=lambda span: (span.file, span.start, span.stored))
    for one, other in pairwise(order):
        if one.file == other.file and other.start < one.start + one.stored:
            raise FormatError(
                name,
                f"level {other.level} of picture {other.image} lies over level {one.level} of picture {one.image}",
                hint=FRESH,
                asked="another layout: are the starts counted from where the layout gives it?",
            )


def own_pixels(reading: Reading) -> Array:
    """The bytes of the block of pixels; none where all levels lie in other files."""
    found = reading.attribute(attributes.PIXELS)
    return np.zeros(0, np.uint8) if found is None else found[0].numbers(found[1].name).view(np.uint8)


def level_numbers(levels: int, apart: int, order: str) -> tuple[list[int], list[int]]:
    """The levels in the picture's own file, and the `apart` largest in others, both in the order of the file."""
    step = 1 if order == "largest" else -1
    return list(range(apart, levels))[::step], list(range(apart))[::step]


def _files(reading: Reading, apart: int) -> list[str]:
    """The file beside this one for each level that lies apart, the first in order first."""
    pattern = reading.layout.content.volumes
    if not pattern or not apart:
        return []
    numbered = NUMBERED.search(pattern) is not None
    return [volume_name(pattern, reading.source.name, number + 1 if numbered else 0) for number in range(apart)]


def _placed(
    reading: Reading, own: PixelLayout, size: Size, levels: int, images: int, apart: int, table: Mapping[str, Array]
) -> list[Span]:
    here, far = level_numbers(levels, apart, own.levels)
    pairs = [(image, level, OWN) for image, level in ordered(here, images, own.images == "outer")]
    files = _files(reading, apart)
    pairs += [
        (image, level, name) for level, name in zip(far, files, strict=False) for image in range(images)
    ]  # each file has its level of all images
    for what, column in table.items():
        if len(column) < len(pairs):
            raise FormatError(
                reading.source.name, f"{what} occurs {len(column)} times for {len(pairs)} levels", hint=FRESH
            )
    spans, at = list[Span](), dict[str, int]()
    for row, (image, level, name) in enumerate(pairs):
        length = plain_size(own, size, level)
        stored = int(table[attributes.STORED][row]) if attributes.STORED in table else length
        start = int(table[attributes.START][row]) if attributes.START in table else at.get(name, 0)
        spans.append(Span(image, level, name, start, stored, length))
        at[name] = start + stored + -stored % own.level_align
    return spans


def ordered(levels: Sequence[int], images: int, outer: bool) -> Iterator[tuple[int, int]]:
    """Image and level of all levels of a file, in its order."""
    if outer:
        yield from ((image, level) for image in range(images) for level in levels)
    else:
        yield from ((image, level) for level in levels for image in range(images))


def plain_size(own: PixelLayout, size: Size, level: int) -> int:
    """The bytes of a level as its pixels lie, before it is wrapped."""
    width, height, depth = (max(1, one >> level) for one in size)
    return own.stored_size(width, height) * depth


def _table(reading: Reading) -> dict[str, Array]:
    """The starts and stored sizes that a row of records has of levels; starts count from where the pixels start."""
    found = {}
    for what in (attributes.START, attributes.STORED):
        holder = reading.attribute(what)
        if holder is not None:
            found[what] = reading.decode_numbers(*holder).astype(np.int64)
    if attributes.START in found:
        found[attributes.START] = found[attributes.START] - _pixels_start(reading)
    return found


def _pixels_start(reading: Reading) -> int:
    found = reading.attribute(attributes.PIXELS)
    return 0 if found is None else found[0].start


def plain_bytes(layout: Layout, stored: Stored, span: Span, name: str) -> Array:
    """The bytes of a level as its pixels lie; FormatError when they are damaged."""
    data = stored.data[span.file][span.start : span.start + span.stored]
    if not layout.content.transforms:
        return data[: span.size]  # what is stored more is padding
    try:
        return np.frombuffer(b"".join(unwrapped(_wrap(layout), [data.tobytes()], span.size)), np.uint8)
    except ContentError as error:
        raise FormatError(name, f"level {span.level} cannot be opened: {error.message}", hint=FRESH) from error


def _wrap(layout: Layout) -> Part:
    return Part("level", None, layout.content.transforms, 1, 0, layout.place)


@dataclass(frozen=True)
class Rewritten:
    """The pixels of each file, and the numbers of the table in its order: starts from where the pixels start, stored
    sizes."""

    data: dict[str, Array]
    starts: Array
    sizes: Array
    here: int  # levels in the picture's own file


def rewrite(
    layout: Layout, own: PixelLayout, before: Stored, after: Sequence[Span], plain: Mapping[tuple[int, int], Array]
) -> Rewritten:
    """The files with other levels: one whose bytes are as before is not wrapped again, and keeps its place where all
    sizes do.

    `after` gives the levels in the order of the file, for a picture of another size with their new bytes; `plain` is
    what each holds, by image and level.
    """
    known = {(span.image, span.level): span for span in before.spans}
    made: list[bytes] = []
    for span in after:
        old, data = known.get((span.image, span.level)), plain[span.image, span.level].tobytes()
        if not layout.content.transforms:
            made.append(data + (_padding(before, old) if old is not None and old.size == len(data) else b""))
        elif old is not None and plain_bytes(layout, before, old, "").tobytes() == data:
            made.append(before.data[old.file][old.start : old.start + old.stored].tobytes())
        else:
            made.append(b"".join(wrapped(_wrap(layout), [data])))
    kept = [(span.file, span.stored) for span in before.spans] == [
        (span.file, len(data)) for span, data in zip(after, made, strict=True)
    ]
    starts = [span.start for span in before.spans] if kept else _in_a_row(own, before, after, made)
    files: dict[str, Array] = {}
    for name in dict.fromkeys([*before.data, *(span.file for span in after)]):
        ends = [start + len(data) for span, start, data in zip(after, starts, made, strict=True) if span.file == name]
        end = max(ends, default=0)
        out = before.data[name].copy() if kept else np.zeros(end + -end % own.level_align, np.uint8)
        if not kept and layout.content.transforms:  # what lies behind all levels is as it was
            out = np.concatenate([out, _behind(own, before, name)])
        for span, start, data in zip(after, starts, made, strict=True):
            if span.file == name:
                out[start : start + len(data)] = np.frombuffer(data, np.uint8)
        files[name] = out
    here = len({span.level for span in after if span.file == OWN})
    return Rewritten(files, np.array(starts, np.int64), np.array([len(data) for data in made], np.int64), here)


def _padding(before: Stored, span: Span) -> bytes:
    """What is stored of a level behind its pixels."""
    return before.data[span.file][span.start + span.size : span.start + span.stored].tobytes()


def _behind(own: PixelLayout, before: Stored, name: str) -> Array:
    """The bytes of a file behind all levels."""
    end = max((span.start + span.stored for span in before.spans if span.file == name), default=0)
    return before.data[name][end + -end % own.level_align :] if name in before.data else np.zeros(0, np.uint8)


def _in_a_row(own: PixelLayout, before: Stored, after: Sequence[Span], made: Sequence[bytes]) -> list[int]:
    """A start for each level: in the order in which they lay, one behind the other."""
    lay = {(span.image, span.level): span.start for span in before.spans}
    order = sorted(range(len(after)), key=lambda at: lay.get((after[at].image, after[at].level), 1 << 62))
    if len(lay) != len(after):
        order = list(range(len(after)))
    starts, at = [0] * len(after), dict[str, int]()
    for row in order:
        name = after[row].file
        starts[row] = at.get(name, min((span.start for span in before.spans if span.file == name), default=0))
        end = starts[row] + len(made[row])
        at[name] = end + -end % own.level_align
    return starts


def spans_for(reading: Reading, own: PixelLayout, size: Size, levels: int, images: int, before: Stored) -> list[Span]:
    """The levels of a picture of another size, in the order of the file; RefusedError when as many files as before
    cannot hold it."""
    files = {span.file for span in before.spans} - {OWN}
    numbered = NUMBERED.search(reading.layout.content.volumes or "") is not None
    old = len({span.level for span in before.spans if span.file != OWN})
    if levels < old and files:
        raise RefusedError(
            f"{old} levels lie in files of their own, and the picture has only {levels}",
            "a larger picture, or --resize",
        )
    apart = old if numbered or reading.attribute(attributes.HERE) is not None else levels if files else 0
    return _placed(reading, own, size, levels, images, apart, {})
