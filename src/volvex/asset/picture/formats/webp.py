"""WebP, written without loss."""

from __future__ import annotations

from volvex.asset.picture.formats import _pillow
from volvex.asset.picture.model import Picture
from volvex.source import Source

NAMES, EXTENSIONS, LIMITS = ("webp",), ("webp",), ("levels", "images", "depth")
FORMATS = ("rgb8", "rgba8")


def read(source: Source) -> Picture:
    return _pillow.read(source, "WEBP", "webp")


def write(picture: Picture) -> bytes:
    return _pillow.written(picture, "WEBP", {"lossless": True, "exact": True})
