"""Portable any map: PBM, PGM, PPM and PFM."""

from __future__ import annotations

from volvex.asset.picture.formats import _pillow
from volvex.asset.picture.model import Picture
from volvex.source import Source

NAMES, EXTENSIONS, LIMITS = ("pnm",), ("ppm", "pgm", "pbm", "pnm", "pfm"), ("levels", "images", "depth")
FORMATS = ("l8", "l16", "l32f", "rgb8")


def read(source: Source) -> Picture:
    return _pillow.read(source, "PPM", "pnm")


def write(picture: Picture) -> bytes:
    return _pillow.written(picture, "PPM")
