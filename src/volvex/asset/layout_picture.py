"""Pictures in formats of games' own, read and written by a layout of the kind `texture`."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from volvex.asset.bounds import check_size
from volvex.asset.picture import UNKNOWN, Picture
from volvex.codec.pixels.order import PixelLayout, pixel_layout
from volvex.errors import FormatError, RefusedError
from volvex.layout.columns import Array
from volvex.layout.kinds import texture as attributes
from volvex.layout.model import Attribute, Field, Layout
from volvex.layout.read.blocks import BlockRead, Reading
from volvex.layout.read.open import read as read_layout
from volvex.layout.records.numbers import encode_numbers
from volvex.layout.write.checks import require_writable
from volvex.layout.write.directory import AllColumns
from volvex.layout.write.plan import Edit
from volvex.layout.write.planner import plan
from volvex.source import Source

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
            for one in meanings
            if isinstance(one, Attribute) and one.what == attributes.FORMAT
            for _, spec in one.table
        ]
        self.FORMATS = tuple(pixel_layout(spec).format.name for spec in specs or [layout.content.codec])

    def read(self, source: Source) -> Picture:
        """The picture in a file; FormatError when it is damaged."""
        reading = read_layout(self.layout, source)
        return _picture(reading, source)

    def write(self, picture: Picture) -> bytes:
        """The file with other pixels: everything else in it is as it was."""
        reading = picture.extra.get("reading")
        if not isinstance(reading, Reading) or reading.original.title != self.layout.title:
            raise RefusedError(
                f"a file of {self.layout.title} is made from one that there is", "`volvex swap` in its place"
            )
        require_writable(self.layout)
        return b"".join(plan(reading, Edit(), columns=_columns(reading, picture)).chunks())


def _number(reading: Reading, what: str, default: int = 1) -> int:
    found = reading.attribute(what)
    if found is None or not bool(found[0].present(found[1])[:1].all()):
        return default
    return int(reading.decode_numbers(*found)[0])


def _word(reading: Reading, what: str) -> str:
    found = reading.attribute(what)
    if found is None:
        return ""
    block, field = found
    assert isinstance(field.meaning, Attribute)
    number = int(reading.decode_numbers(block, field)[0])
    word = dict(field.meaning.table).get(number)
    if word is None:
        raise FormatError(
            block.source.name,
            f"{number} is no {what} in the layout",
            offset=block.offset(0, field.name),
            field=block.where(0, field.name),
            hint="another layout, or adding the number to its table",
        )
    return word


def _picture(reading: Reading, source: Source) -> Picture:
    own = pixel_layout(_word(reading, attributes.FORMAT) or reading.layout.content.codec)
    width, height, depth, levels, faces, layers = (_number(reading, what) for what in attributes.SIZES)
    depth, faces, layers, levels = max(1, depth), max(1, faces), max(1, layers), max(1, levels)
    images, data = faces * layers, _pixels(reading)
    check_size(source, width, height, images * depth, own.format.bits / own.format.edge**2 / 8)
    if levels > min(MOST_LEVELS, max(width, height, depth).bit_length()):
        raise FormatError(source.name, f"{levels} levels of {width} x {height} pixels", hint="a fresh copy of the file")
    surfaces: list[list[bytes]] = [[b""] * levels for _ in range(images)]
    for image, level, start, size in _places(own, (width, height, depth), levels, images):
        if start + size > len(data):
            raise FormatError(
                source.name,
                f"level {level} ends {start + size:,} bytes into the pixels, {len(data):,} are there",
                hint="a fresh copy of the file: it may be cut off",
            )
        across, down = max(1, width >> level), max(1, height >> level)
        one = own.stored_size(across, down)
        slices = [data[start + at : start + at + one].tobytes() for at in range(0, size, one)]
        surfaces[image][level] = b"".join(own.plain(part, across, down) for part in slices)
    space = _word(reading, attributes.SPACE) or UNKNOWN
    extra = {"reading": reading, "pixels": own}
    form = reading.original.title
    return Picture(
        width, height, own.format, surfaces, depth, layers, faces, space, _palette(reading, own), form=form, extra=extra
    )


def _places(
    own: PixelLayout, size: tuple[int, int, int], levels: int, images: int
) -> Iterator[tuple[int, int, int, int]]:
    """Where each level of each image lies in the pixels: image, level, start, size."""
    order = range(levels) if own.levels == "largest" else range(levels - 1, -1, -1)
    pairs = (
        [(image, level) for image in range(images) for level in order]
        if own.images == "outer"
        else [(image, level) for level in order for image in range(images)]
    )
    at = 0
    for image, level in pairs:
        width, height, depth = (max(1, one >> level) for one in size)
        length = own.stored_size(width, height) * depth
        yield image, level, at, length
        at += length + -length % own.level_align


def _pixels(reading: Reading) -> Array:
    found = reading.attribute(attributes.PIXELS)
    assert found is not None  # the check sees to that
    return found[0].numbers(found[1].name).view(np.uint8)


def pixels_used(picture: Picture) -> tuple[int, int]:
    """How many bytes of the pixels the levels take, and how many there are."""
    own, reading = picture.extra["pixels"], picture.extra["reading"]
    size = (picture.width, picture.height, picture.depth)
    ends = [start + length for _, _, start, length in _places(own, size, picture.levels, picture.images)]
    used = max(ends)
    return used + -used % own.level_align, len(_pixels(reading))


def _palette(reading: Reading, own: PixelLayout) -> Any:
    """The colours of a palette, those of fields that are not in bytes scaled to them."""
    if own.format.kind != "index":
        return None
    channels = [_channel(reading, what) for what in attributes.COLOURS]
    count = next(len(channel) for channel in channels if channel is not None)
    full = np.full(count, 255, np.int64)
    return np.stack([full if channel is None else channel for channel in channels], axis=1).astype(np.uint8)


def _channel(reading: Reading, what: str) -> Array | None:
    found = reading.attribute(what)
    if found is None:
        return None
    most = found[1].type.limits[1]  # type: ignore[attr-defined]
    numbers = reading.decode_numbers(*found).astype(np.int64)
    return numbers if most == 255 else np.asarray((numbers * 255 + most // 2) // most)


def _columns(reading: Reading, picture: Picture) -> AllColumns:
    """The blocks' columns with the pixels, the palette and the sizes of a picture."""
    columns: AllColumns = {name: dict(block.columns) for name, block in reading.blocks.items()}
    own = picture.extra.get("pixels")
    assert isinstance(own, PixelLayout)
    if own.format != picture.format:
        raise RefusedError(f"the game's own picture has {own.format}, not {picture.format}", "that format")
    block, field = reading.attribute(attributes.PIXELS) or (None, None)
    assert block is not None and field is not None
    columns[block.block.name][field.name] = _written(_pixels(reading), own, picture)
    values = (picture.width, picture.height, picture.depth, picture.levels, picture.faces, picture.layers)
    for what, value in zip(attributes.SIZES, values, strict=True):
        found = reading.attribute(what)
        if found is not None and max(1, _number(reading, what)) != value:
            _put(columns, reading, *found, np.array([value]))
    if picture.palette is not None:
        for place, what in enumerate(attributes.COLOURS):
            found = reading.attribute(what)
            old = _channel(reading, what)
            if found is not None and old is not None and not np.array_equal(old, picture.palette[:, place]):
                most = found[1].type.limits[1]  # type: ignore[attr-defined]
                numbers = picture.palette[:, place].astype(np.int64)
                _put(columns, reading, *found, numbers if most == 255 else (numbers * most + 127) // 255)
    return columns


def _put(columns: AllColumns, reading: Reading, block: BlockRead, field: Field, numbers: Array) -> None:
    name = f"{reading.source.name}, {block.block.name}"
    columns[block.block.name][field.name] = encode_numbers(numbers.astype(object), reading.settled(field), name)


def _written(before: Array, own: PixelLayout, picture: Picture) -> Array:
    """The pixels of a file: what no level covers is as it was."""
    size = (picture.width, picture.height, picture.depth)
    places = list(_places(own, size, picture.levels, picture.images))
    reading = picture.extra["reading"]
    same = tuple(max(1, _number(reading, what)) for what in attributes.SIZES[:3]) == size
    end = max(start + length for _, _, start, length in places)
    out = before.copy() if same and len(before) >= end else np.zeros(end + -end % own.level_align, np.uint8)
    for image, level, start, length in places:
        across, down = max(1, picture.width >> level), max(1, picture.height >> level)
        one, plain = own.stored_size(across, down), own.format.size(across, down)
        for number, at in enumerate(range(start, start + length, one)):
            data = bytes(picture.surfaces[image][level][number * plain : (number + 1) * plain])
            stored = own.stored(data, across, down, out[at : at + one].tobytes())
            out[at : at + one] = np.frombuffer(stored, np.uint8)
    return out
