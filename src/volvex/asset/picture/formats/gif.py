"""GIF: a palette; of several frames the first."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from volvex.asset.picture.formats import _pillow
from volvex.asset.picture.model import Picture
from volvex.source import Source

NAMES, EXTENSIONS, LIMITS = ("gif",), ("gif",), ("levels", "images", "depth")
FORMATS = ("pal8",)
HALF = 128  # of alpha


def read(source: Source) -> Picture:
    return _pillow.read(source, "GIF", "gif")


def write(picture: Picture) -> bytes:
    """A colour is clear or it is not, and one is: all that are more clear than not become the first of them."""
    palette = picture.palette
    clear = [] if palette is None else np.flatnonzero(palette[:256, 3] < HALF).tolist()
    if len(clear) > 1 and picture.format.name == "pal8":
        table = bytes(clear[0] if colour in clear else colour for colour in range(256))
        picture = replace(picture, surfaces=[[level.translate(table) for level in image] for image in picture.surfaces])
    return _pillow.written(picture, "GIF", {"transparency": clear[0] if clear else None})
