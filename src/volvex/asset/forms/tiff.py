"""TIFF 6.0: grey, colours, alpha, in 8 and 16 bits and floats."""

from __future__ import annotations

import io
import logging
from typing import Any

import numpy as np

from volvex.asset.bounds import check_size
from volvex.asset.forms import _pillow
from volvex.asset.picture import Picture
from volvex.codec.pixels.format import FORMATS as PIXELS
from volvex.errors import FormatError
from volvex.library_errors import library_errors
from volvex.source import Source

NAMES, EXTENSIONS, LIMITS = ("tiff",), ("tif", "tiff"), ("levels", "images", "depth")
CHANNELS = {1: "l", 2: "la", 3: "rgb", 4: "rgba"}
SAMPLES = {"u1": "8", "u2": "16", "f2": "16f", "f4": "32f"}
FORMATS = tuple(f"{channels}{sample}" for channels in CHANNELS.values() for sample in SAMPLES.values())


def read(source: Source) -> Picture:
    import tifffile

    logging.getLogger("tifffile").disabled = True  # what is wrong is in our error
    if source.size > _pillow.LARGEST:
        raise FormatError(source.name, f"a TIFF file of {source.size:,} bytes is not read as a whole")
    with (
        library_errors(source.name, "TIFF file", _pillow.FRESH),
        tifffile.TiffFile(io.BytesIO(source.read(0, source.size))) as file,
    ):
        page: Any = file.pages[0]
        pages = len(file.pages)
        if page.photometric not in (1, 2) or page.planarconfig != 1:
            return _pillow.read(source, "TIFF", "tiff")
        check_size(source, page.imagewidth, page.imagelength, pixel=page.samplesperpixel * page.bitspersample / 8)
        pixels = page.asarray()
    pixels = pixels.reshape(*pixels.shape[:2], -1)
    name = CHANNELS.get(pixels.shape[2], "") + SAMPLES.get(pixels.dtype.str[1:], "?")
    if name not in PIXELS:
        return _pillow.read(source, "TIFF", "tiff")
    height, width = pixels.shape[:2]
    notes = (f"{pages} pictures, of which this is the first",) if pages > 1 else ()
    return Picture(width, height, PIXELS[name], [[PIXELS[name].pack(pixels)]], form="tiff", notes=notes)


def write(picture: Picture) -> bytes:
    import tifffile

    out, pixels = io.BytesIO(), np.ascontiguousarray(picture.pixels())
    count = pixels.shape[2]
    more: dict[str, Any] = {"extrasamples": ["unassalpha"]} if count in (2, 4) else {}
    tifffile.imwrite(
        out,
        pixels if count > 1 else pixels[..., 0],
        photometric="rgb" if count > 2 else "minisblack",
        planarconfig="contig" if count > 1 else None,
        compression="zlib",
        metadata=None,
        **more,
    )
    return out.getvalue()
