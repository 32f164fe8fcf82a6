"""Pictures in formats of games' own, read and written by a layout of the kind `texture`."""

from __future__ import annotations

from typing import Any

import numpy as np

from volvex.asset.bounds import check_size
from volvex.asset.layout_facts import number_of, put_numbers, word_of
from volvex.asset.picture.model import UNKNOWN, Picture
from volvex.asset.picture.own_levels import (
    OWN,
    Rewritten,
    Stored,
    find_levels,
    pixels_of_files,
    plain_bytes,
    rewrite,
    spans_for,
)
from volvex.codec.pixels.order import PixelLayout, pixel_layout
from volvex.errors import FormatError, RefusedError
from volvex.layout.columns import AllColumns, Array
from volvex.layout.kinds import texture as attributes
from volvex.layout.model import Attribute, Field, Layout
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.read.open import read as read_layout
from volvex.layout.write.checks import require_writable
from volvex.layout.write.plan import Edit
from volvex.layout.write.planner import plan
from volvex.source import BytesSource, Source

MOST_LEVELS = 32


class LayoutForm:
    """The form of files of one layout: what an open form's module is for its files."""

    NAMES: tuple[str, ...] = ()
    EXTENSIONS: tuple[str, ...] = ()
    LIMITS: tuple[str, ...] = ()

    def __init__(self, layout: Layout) -> None:
        self.layout = layout
        meanings = [field.meaning for block in layout.blocks for field in block.fields]
        specs = [
            spec
            for meaning in meanings
            if isinstance(meaning, Attribute) and meaning.what == attributes.FORMAT
            for _, spec in meaning.table
        ]
        self.FORMATS = tuple(pixel_layout(spec).format.name for spec in specs or [layout.content.codec])

    def read(self, source: Source) -> Picture:
        """The picture in a file; FormatError when it is damaged."""
        reading = read_layout(self.layout, source)
        return _picture(reading, source)

    def beside(self, source: Source) -> tuple[tuple[str, bytes], ...]:
        """All files beside a picture's own that it is read from, with their bytes."""
        if not (self.layout.content.volumes or any(part.file for part in self.layout.parts)):
            return ()
        found: dict[str, bytes] = {}
        find = source.beside

        def noted(name: str) -> Source | None:
            other = find(name) if find is not None else None
            if other is None:
                return None
            with other:
                found[name] = other.read(0, other.size)
            return BytesSource(found[name], name)

        source.beside = noted
        try:
            self.read(source)
        finally:
            source.beside = find
        return tuple(found.items())

    def write(self, picture: Picture) -> bytes:
        """The file with other pixels: everything else in it is as it was."""
        return self.files(picture)[OWN]

    def files(self, picture: Picture) -> dict[str, bytes]:
        """All files of a picture: its own, and those beside it in which levels lie, by their names."""
        reading = picture.extra.get("reading")
        if not isinstance(reading, Reading) or reading.original.title != self.layout.title:
            raise RefusedError(
                f"a file of {self.layout.title} is made from one that there is", "`volvex swap` in its place"
            )
        require_writable(self.layout)
        made = _rewritten(reading, picture)
        own = b"".join(plan(reading, Edit(), columns=_columns(reading, picture, made)).chunks())
        return {OWN: own, **{name: data.tobytes() for name, data in made.data.items() if name != OWN}}


def _picture(reading: Reading, source: Source) -> Picture:
    own = pixel_layout(word_of(reading, attributes.FORMAT) or reading.layout.content.codec)
    width, height, depth, levels, faces, layers = (number_of(reading, what) for what in attributes.SIZES)
    depth, faces, layers, levels = max(1, depth), max(1, faces), max(1, layers), max(1, levels)
    images = faces * layers
    if levels > max(1, min(MOST_LEVELS, max(width, height, depth).bit_length())):
        raise FormatError(source.name, f"{levels} levels of {width} x {height} pixels", hint="a fresh copy of the file")
    files = pixels_of_files(reading, levels)
    beside = sum(len(one) for name, one in files.items() if name != OWN)
    check_size(source, width, height, images * depth, own.format.pixel_size, beside)
    stored = find_levels(reading, files, own, (width, height, depth), levels, images)
    surfaces: list[list[bytes]] = [[b""] * levels for _ in range(images)]
    for span in stored.spans:
        across, down = max(1, width >> span.level), max(1, height >> span.level)
        one, data = own.stored_size(across, down), plain_bytes(reading.layout, stored, span, source.name)
        slices = [data[at : at + one].tobytes() for at in range(0, span.size, one)]
        surfaces[span.image][span.level] = b"".join(own.plain(part, across, down) for part in slices)
    space = word_of(reading, attributes.SPACE) or UNKNOWN
    extra = {"reading": reading, "pixels": own, "stored": stored}
    palette = _palette(reading, own, source)
    return Picture(
        width,
        height,
        own.format,
        surfaces,
        depth,
        layers,
        faces,
        space,
        palette,
        palette_kept=any(block for block in reading.beside),
        form=reading.original.title,
        extra=extra,
    )


def pixels_used(picture: Picture) -> tuple[int, int]:
    """How many bytes of the pixels the levels take, and how many there are."""
    own, stored = picture.extra["pixels"], picture.extra["stored"]
    used = max((span.start + span.stored for span in stored.spans if span.file == OWN), default=0)
    return used + -used % own.level_align, len(stored.data[OWN])


def _palette(reading: Reading, own: PixelLayout, source: Source) -> Any:
    """The colours of a palette, those of fields that are not in bytes scaled to them; of several that of the picture's
    number."""
    if own.format.kind != "index":
        return None
    channels = [_channel(reading, what) for what in attributes.COLOURS]
    count = next(len(channel) for channel in channels if channel is not None)
    full = np.full(count, 255, np.int64)
    colours = np.stack([full if channel is None else channel for channel in channels], axis=1).astype(np.uint8)
    if reading.attribute(attributes.PALETTE) is None:
        return colours
    rows = _palette_rows(reading, own)
    if len(colours[rows]) < 1 or rows.stop > count:
        number = number_of(reading, attributes.PALETTE)
        raise FormatError(
            source.name,
            f"its palette is number {number}, and there are {count >> own.format.bits}",
            hint="a fresh copy of the file, or of that with the palettes",
        )
    return colours[rows]


def _palette_rows(reading: Reading, own: PixelLayout) -> slice:
    """Which of all colours are the picture's."""
    if reading.attribute(attributes.PALETTE) is None:
        return slice(None)
    each = 1 << own.format.bits
    first = number_of(reading, attributes.PALETTE) * each
    return slice(first, first + each)


def _colour_field(reading: Reading, what: str) -> tuple[BlockRead, Field] | None:
    """The field of a palette's channel, in the file or in one beside it."""
    beside = (
        (block, field)
        for block in reading.beside.values()
        for field in block.block.fields
        if isinstance(field.meaning, Attribute) and field.meaning.what == what
    )
    return reading.attribute(what) or next(beside, None)


def _channel(reading: Reading, what: str) -> Array | None:
    found = _colour_field(reading, what)
    if found is None:
        return None
    most = found[1].type.limits[1]  # type: ignore[attr-defined]
    numbers = reading.decode_numbers(*found).astype(np.int64)
    return numbers if most == 255 else np.asarray((numbers * 255 + most // 2) // most)


def _columns(reading: Reading, picture: Picture, made: Rewritten) -> AllColumns:
    """The blocks' columns with the pixels, the palette and the sizes of a picture."""
    columns: AllColumns = {name: dict(block.columns) for name, block in reading.blocks.items()}
    found = reading.attribute(attributes.PIXELS)
    if found is not None:
        columns[found[0].block.name][found[1].name] = made.data[OWN]
    values = [picture.width, picture.height, picture.depth, picture.levels, picture.faces, picture.layers]
    for what, value in zip(attributes.SIZES, values, strict=True):
        found = reading.attribute(what)
        if found is not None and max(1, number_of(reading, what)) != value:
            put_numbers(columns, reading, *found, np.array([value]))
    _put_levels(columns, reading, made)
    if picture.palette is not None and not picture.palette_kept:
        rows = _palette_rows(reading, picture.extra["pixels"])
        for place, what in enumerate(attributes.COLOURS):
            found = reading.attribute(what)
            old = _channel(reading, what)
            if found is not None and old is not None and not np.array_equal(old[rows], picture.palette[:, place]):
                most = found[1].type.limits[1]  # type: ignore[attr-defined]
                whole = old.copy()
                whole[rows] = picture.palette[:, place]
                put_numbers(columns, reading, *found, whole if most == 255 else (whole * most + 127) // 255)
    return columns


def _put_levels(columns: AllColumns, reading: Reading, made: Rewritten) -> None:
    """The numbers that say where levels lie: how many are in the picture's own file, and the rows of a table."""
    here = reading.attribute(attributes.HERE)
    if here is not None:
        _put_changed(columns, reading, here, np.array([made.here]))
    start, stored = reading.attribute(attributes.START), reading.attribute(attributes.STORED)
    pixels = reading.attribute(attributes.PIXELS)
    if start is not None and pixels is not None:
        _put_changed(columns, reading, start, made.starts + pixels[0].start)
    if stored is not None:
        _put_changed(columns, reading, stored, made.sizes)


def _put_changed(columns: AllColumns, reading: Reading, found: tuple[BlockRead, Field], numbers: Array) -> None:
    """Put numbers where they are others than before; what a table has more than these stays."""
    before = reading.decode_numbers(*found).astype(np.int64)
    if len(numbers) > len(before):
        raise RefusedError(
            f"the file has room for {len(before)} levels, the picture has {len(numbers)}", "a smaller picture"
        )
    if not np.array_equal(before[: len(numbers)], numbers):
        after = before.copy()
        after[: len(numbers)] = numbers
        put_numbers(columns, reading, *found, after)


def _rewritten(reading: Reading, picture: Picture) -> Rewritten:
    """The pixels of all files of a picture: what no level covers is as it was."""
    own, before = picture.extra.get("pixels"), picture.extra["stored"]
    assert isinstance(own, PixelLayout) and isinstance(before, Stored)
    if own.format != picture.format:
        raise RefusedError(f"the game's own picture has {own.format}, not {picture.format}", "that format")
    size = (picture.width, picture.height, picture.depth)
    same = tuple(max(1, number_of(reading, what)) for what in attributes.SIZES[:3]) == size
    levels = {span.level for span in before.spans}
    after = (
        before.spans
        if same and len(levels) == picture.levels
        else spans_for(reading, own, size, picture.levels, picture.images, before)
    )
    old = {(span.image, span.level): span for span in before.spans} if same else {}
    plain: dict[tuple[int, int], Array] = {}
    for span in after:
        across, down = max(1, picture.width >> span.level), max(1, picture.height >> span.level)
        one, flat = own.stored_size(across, down), own.format.size(across, down)
        known = old.get((span.image, span.level))
        rest = plain_bytes(reading.layout, before, known, "") if known is not None else np.zeros(0, np.uint8)
        surface = picture.surfaces[span.image][span.level]
        parts = [
            own.stored(
                bytes(surface[number * flat : (number + 1) * flat]), across, down, rest[number * one :][:one].tobytes()
            )
            for number in range(span.size // one)
        ]
        plain[span.image, span.level] = np.frombuffer(b"".join(parts), np.uint8)
    return rewrite(reading.layout, own, before, after, plain)
