"""Truevision TGA 2.0: all types, run-length, either origin; written as it came.

Source: "Truevision TGA File Format Specification" 2.0.
"""

from __future__ import annotations

from volvex.asset.picture.formats import _pillow
from volvex.asset.picture.model import Picture
from volvex.source import Source

NAMES, EXTENSIONS, LIMITS = ("tga",), ("tga",), ("levels", "images", "depth")
FORMATS = ("l8", "la8", "rgb8", "rgba8", "pal8")
RUN_LENGTH = 8  # bit of the type
TOP_DOWN = 0x20  # bit of the descriptor


def read(source: Source) -> Picture:
    picture, head = _pillow.read(source, "TGA", "tga"), source.peek(0, 18)
    picture.extra.update(rle=bool(head[2] & RUN_LENGTH), top_down=bool(head[17] & TOP_DOWN))
    return picture


def write(picture: Picture) -> bytes:
    """Compressed, and from the bottom or the top, as the file was that the picture came from."""
    extra = picture.extra if picture.form == "tga" else {}
    options = {"rle": extra.get("rle", False), "orientation": 1 if extra.get("top_down") else -1}
    return _pillow.written(picture, "TGA", options)
