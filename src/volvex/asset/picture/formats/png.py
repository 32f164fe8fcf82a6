"""PNG (ISO 15948): grey, colours, alpha, palettes, 8 and 16 bits."""

from __future__ import annotations

import numpy as np

from volvex.asset.bounds import check_size
from volvex.asset.picture.formats import _pillow
from volvex.asset.picture.model import Picture
from volvex.codec.pixels.format import FORMATS as PIXELS
from volvex.errors import FormatError
from volvex.extras import require
from volvex.library_errors import library_errors
from volvex.source import Source

NAMES, EXTENSIONS, LIMITS = ("png",), ("png",), ("levels", "images", "depth")
FORMATS = ("l8", "la8", "rgb8", "rgba8", "pal8", "l16", "la16", "rgb16", "rgba16")
DEEP = {2: "rgb16", 4: "la16", 6: "rgba16"}  # colour types of 16 bits that Pillow cuts down to 8
COMPRESS = 4  # less than half the time of 6, for 3 to 9 per cent more bytes


def read(source: Source) -> Picture:
    head = source.peek(0, 26)
    if len(head) == 26 and head[24] == 16 and head[25] in DEEP:
        return _deep(source, int.from_bytes(head[16:20], "big"), int.from_bytes(head[20:24], "big"), DEEP[head[25]])
    return _pillow.read(source, "PNG", "png")


def _deep(source: Source, width: int, height: int, name: str) -> Picture:
    require("imagecodecs", "PNG of 16 bits")
    import imagecodecs

    check_size(source, width, height, pixel=8)
    with library_errors(source.name, "PNG file", _pillow.FRESH):
        pixels = np.asarray(imagecodecs.png_decode(source.read(0, source.size)))
    if pixels.shape != (height, width, len(PIXELS[name].channels)) or pixels.dtype != np.uint16:
        raise FormatError(
            source.name, f"it decodes to {pixels.shape} of {pixels.dtype}, expected {width} x {height} of 16 bits"
        )
    return Picture(width, height, PIXELS[name], [[PIXELS[name].pack(pixels)]], form="png")


def write(picture: Picture) -> bytes:
    if picture.format.name in DEEP.values():
        require("imagecodecs", "PNG of 16 bits")
        import imagecodecs

        return bytes(imagecodecs.png_encode(np.ascontiguousarray(picture.pixels())))
    return _pillow.written(picture, "PNG", {"compress_level": COMPRESS})
