"""Is a picture of a game's own format read and written as its layout says? And would it be after a change?"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from volvex.asset.picture.model import Picture
from volvex.asset.picture.own_layout import LayoutForm, pixels_used
from volvex.asset.picture.own_levels import OWN
from volvex.asset.picture.put_back import put_back
from volvex.codec.pixels.blocks import can_encode
from volvex.errors import VolvexError
from volvex.layout.inspect.hints import Hint, hints_of
from volvex.layout.read.blocks import Reading
from volvex.source import BytesSource


def picture_hints(picture: Picture) -> Iterator[Hint]:
    """What the file shows and the layout does not say: bytes of the pixels that no level has."""
    reading = picture.extra["reading"]
    assert isinstance(reading, Reading)
    yield from hints_of(reading)
    used, there = pixels_used(picture)
    if used < there:
        level = picture.format.size(*picture.level_size(picture.levels)[:2])
        more = " as many as one more level has" if level and level == there - used else ""
        yield Hint(
            "pixels",
            f"{there - used:,} of {there:,} bytes of the pixels are in no level{',' + more if more else ''}",
            "`levels`, `faces` or `layers`, another pixel format, or `level_align` of it",
        )


def change_fault(form: LayoutForm, picture: Picture) -> str:
    """What goes wrong when a pixel of each level is changed, written and read again; empty for nothing."""
    if not can_encode(picture.format):
        return ""
    edits = {}
    for level in range(picture.levels):
        pixels = picture.pixels(level).copy()
        pixels[-1, -1] = (
            pixels[0, 0]
            if (pixels[-1, -1] != pixels[0, 0]).any()
            else pixels[-1, -1] ^ 1
            if pixels.dtype.kind in "iu"
            else pixels[-1, -1] / 2
        )
        edits[level] = pixels
    try:
        made = put_back(picture, edits).picture
        files = form.files(made)
        written = BytesSource(files.pop(OWN), picture.extra["reading"].source.name)
        own = picture.extra["reading"].source.beside
        written.beside = lambda name: BytesSource(files[name], name) if name in files else own and own(name)
        again = form.read(written)
    except VolvexError as error:
        return str(error)
    for level in range(picture.levels):
        if not np.array_equal(again.pixels(level), made.pixels(level)):
            return f"level {level} is read as something else than was written"
    return ""
