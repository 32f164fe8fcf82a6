"""ICO and CUR: icons of several sizes, of which the largest is looked at; written with the usual sizes."""

from __future__ import annotations

from volvex.asset.forms import _pillow
from volvex.asset.picture import Picture
from volvex.source import Source

NAMES, EXTENSIONS, LIMITS = ("ico", "cur"), ("ico", "cur"), ("levels", "images", "depth")
FORMATS = ("rgba8",)
CURSOR = b"\0\0\2\0"


def read(source: Source) -> Picture:
    image = _pillow.opened(source, "CUR" if source.peek(0, 4) == CURSOR else "ICO")
    sizes = sorted(image.info.get("sizes", ()))
    notes = [f"{len(sizes)} sizes, of which this is the largest"] if len(sizes) > 1 else []
    return _pillow.picture_of(image, source, "ico", notes)


def write(picture: Picture) -> bytes:
    largest = min(256, picture.width, picture.height)
    sizes = [(size, size) for size in (16, 24, 32, 48, 64, 128, 256) if size <= largest]
    return _pillow.written(picture, "ICO", {"sizes": sizes or [(picture.width, picture.height)]})
