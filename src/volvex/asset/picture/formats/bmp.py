"""BMP: colours and palettes; written without alpha, which few programs read there."""

from __future__ import annotations

from volvex.asset.picture.formats import _pillow
from volvex.asset.picture.model import Picture
from volvex.source import Source

NAMES, EXTENSIONS, LIMITS = ("bmp",), ("bmp",), ("levels", "images", "depth")
FORMATS = ("l8", "pal8", "rgb8")


def read(source: Source) -> Picture:
    return _pillow.read(source, "BMP", "bmp")


def write(picture: Picture) -> bytes:
    return _pillow.written(picture, "BMP")
