"""ICO and CUR: icons of several sizes, of which the largest is looked at; written with the usual sizes."""

from __future__ import annotations

import struct
from dataclasses import replace

from volvex.asset.picture.formats import _pillow
from volvex.asset.picture.model import Picture
from volvex.source import Source

NAMES, EXTENSIONS, LIMITS = ("ico", "cur"), ("ico", "cur"), ("levels", "images", "depth")
FORMATS = ("rgba8",)
HEAD, ENTRY = struct.Struct("<HHH"), struct.Struct("<8sII")
CURSOR, PNG = b"\0\0\2\0", b"\x89PNG"


def read(source: Source) -> Picture:
    image = _pillow.opened(source, "CUR" if source.peek(0, 4) == CURSOR else "ICO")
    sizes = sorted(image.info.get("sizes", ()))
    notes = [f"{len(sizes)} sizes, of which this is the largest"] if len(sizes) > 1 else []
    found = _pillow.picture_of(image, source, "ico", notes)
    first = int.from_bytes(source.peek(18, 4), "little")
    bare = source.peek(first, 4) != PNG
    return replace(found, extra=found.extra | {"sizes": sizes, "bare": bare})


def write(picture: Picture) -> bytes:
    """The icon in the sizes that it had; a new one in the usual ones."""
    largest = min(256, picture.width, picture.height)
    usual = [(size, size) for size in (16, 24, 32, 48, 64, 128, 256)]
    sizes = [size for size in picture.extra.get("sizes", usual) if max(size) <= largest]
    form = "bmp" if picture.extra.get("bare") else "png"
    data = _pillow.written(picture, "ICO", {"sizes": sizes or [(picture.width, picture.height)], "bitmap_format": form})
    return _masked(data) if form == "bmp" else data


def _masked(data: bytes) -> bytes:
    """An icon of bare images with the mask of one bit a pixel behind each, which Pillow leaves out and the format
    has."""
    count = HEAD.unpack_from(data)[2]
    at, head, body = HEAD.size + count * ENTRY.size, data[: HEAD.size], b""
    for number in range(count):
        shape, size, start = ENTRY.unpack_from(data, HEAD.size + number * ENTRY.size)
        image = data[start : start + size]
        wide, high = struct.unpack_from("<ii", image, 4)[0], struct.unpack_from("<ii", image, 4)[1] // 2
        if size == 40 + 4 * wide * high:
            image += bytes(high * (-(-wide // 32) * 4))
        head += ENTRY.pack(shape, len(image), at + len(body))
        body += image
    return head + body
