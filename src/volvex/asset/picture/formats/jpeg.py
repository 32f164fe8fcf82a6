"""JPEG (ISO 10918-1): colours without alpha, written at quality 95."""

from __future__ import annotations

from volvex.asset.picture.formats import _pillow
from volvex.asset.picture.model import Picture
from volvex.source import Source

NAMES, EXTENSIONS, LIMITS = ("jpeg",), ("jpg", "jpeg"), ("levels", "images", "depth")
FORMATS = ("l8", "rgb8")


def read(source: Source) -> Picture:
    return _pillow.read(source, "JPEG", "jpeg")


def write(picture: Picture) -> bytes:
    return _pillow.written(picture, "JPEG", {"quality": 95, "subsampling": 0})
