"""TIFF 6.0: grey, colours, alpha, in 8 and 16 bits and floats."""

from __future__ import annotations

import io
import logging
from typing import Any

import numpy as np

from volvex.asset.bounds import check_size
from volvex.asset.picture.formats import _pillow
from volvex.asset.picture.model import Picture
from volvex.codec.pixels.format import FORMATS as PIXELS
from volvex.errors import FormatError
from volvex.library_errors import library_errors
from volvex.source import Source

NAMES, EXTENSIONS, LIMITS = ("tiff",), ("tif", "tiff"), ("levels", "images", "depth")
CHANNELS = {1: "l", 2: "la", 3: "rgb", 4: "rgba"}
SAMPLES = {"u1": "8", "u2": "16", "f2": "16f", "f4": "32f"}
DARK, PALETTE = 0, 3  # what numbers mean: the less the lighter, colours of a table
PLAIN = (DARK, 1, 2, PALETTE)
SEPARATE = 2  # each channel by itself
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
        if page.photometric not in PLAIN:
            return _pillow.read(source, "TIFF", "tiff")
        check_size(source, page.imagewidth, page.imagelength, pixel=page.samplesperpixel * page.bitspersample / 8)
        pixels = page.asarray()
        if page.planarconfig == SEPARATE and pixels.ndim == 3:
            pixels = np.moveaxis(pixels, 0, 2)
        pixels = pixels.reshape(page.imagelength, page.imagewidth, page.samplesperpixel)
        if page.bitspersample < 8 and page.photometric != PALETTE:
            pixels = (pixels.astype(np.uint32) * 255 // ((1 << page.bitspersample) - 1)).astype(np.uint8)
        if page.photometric == DARK and pixels.dtype.kind == "u":
            pixels = np.invert(pixels)
        if page.photometric == PALETTE:
            return _paletted(pixels.astype(np.uint8), page.colormap)
    name = CHANNELS.get(pixels.shape[2], "") + SAMPLES.get(pixels.dtype.str[1:], "?")
    if name not in PIXELS:
        return _pillow.read(source, "TIFF", "tiff")
    height, width = pixels.shape[:2]
    notes = (f"{pages} pictures, of which this is the first",) if pages > 1 else ()
    return Picture(width, height, PIXELS[name], [[PIXELS[name].pack(pixels)]], form="tiff", notes=notes)


def _paletted(pixels: Any, colormap: Any) -> Picture:
    """A picture whose colours are in a table of red, green and blue in 16 bits."""
    colours = (np.asarray(colormap).T >> 8).astype(np.uint8)
    palette = np.hstack([colours, np.full((len(colours), 1), 255, np.uint8)])
    height, width = pixels.shape[:2]
    return Picture(width, height, PIXELS["pal8"], [[PIXELS["pal8"].pack(pixels)]], palette=palette, form="tiff")


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
