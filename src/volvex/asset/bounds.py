"""Sizes of pictures, bounded before memory is taken."""

from __future__ import annotations

from volvex.errors import FormatError
from volvex.source import Source

LARGEST = 1 << 32  # bytes of a picture without its smaller levels
DENSEST = 3000  # bytes of pixels that a byte of a file can hold, by any compression that is known
SPARE = 1 << 20


def check_size(source: Source, width: int, height: int, images: int = 1, pixel: float = 4, beside: int = 0) -> None:
    """FormatError for a picture without pixels, or with more than a file of this size can hold.

    `pixel`: bytes of one. `beside`: bytes of other files in which levels lie.
    """
    if width < 1 or height < 1 or images < 1:
        raise FormatError(source.name, f"a picture of {width} x {height} pixels", hint="a fresh copy of the file")
    size, held = width * height * images * pixel, source.size + beside
    if size > LARGEST or size > DENSEST * held + SPARE:
        raise FormatError(
            source.name,
            f"it gives its size as {width:,} x {height:,} pixels, more than {held:,} bytes can hold",
            hint="a fresh copy of the file",
        )
