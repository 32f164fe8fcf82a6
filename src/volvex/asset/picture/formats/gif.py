"""GIF: a palette; of several frames the first."""

from __future__ import annotations

from volvex.asset.picture.formats import _pillow
from volvex.asset.picture.model import Picture
from volvex.source import Source

NAMES, EXTENSIONS, LIMITS = ("gif",), ("gif",), ("levels", "images", "depth")
FORMATS = ("pal8",)


def read(source: Source) -> Picture:
    return _pillow.read(source, "GIF", "gif")


def write(picture: Picture) -> bytes:
    return _pillow.written(picture, "GIF")
