"""What the forms that Pillow reads and writes have in common: its modes as pixel formats, and the other way."""

from __future__ import annotations

import io
import warnings
from collections.abc import Mapping
from typing import Any

import numpy as np
from PIL import Image

from volvex.asset.bounds import check_size
from volvex.asset.picture.model import Picture
from volvex.codec.pixels.format import FORMATS
from volvex.errors import FormatError, RefusedError
from volvex.library_errors import library_errors
from volvex.source import Source

MODES = {"L": "l8", "LA": "la8", "RGB": "rgb8", "RGBA": "rgba8", "P": "pal8", "I;16": "l16", "F": "l32f"}
OTHERS = {
    "1": "L",
    "PA": "RGBA",
    "La": "LA",
    "RGBa": "RGBA",
    "RGBX": "RGB",
    "CMYK": "RGB",
    "YCbCr": "RGB",
    "LAB": "RGB",
    "HSV": "RGB",
}
PLAIN = ("l8", "la8", "rgb8", "rgba8", "pal8")
FRESH = "a fresh copy of the file"
LARGEST = 1 << 30  # bytes of a file that is read as a whole

Image.MAX_IMAGE_PIXELS = None  # sizes are bounded by what a file can hold


def read(source: Source, kind: str, form: str) -> Picture:
    """The first picture of a file that Pillow calls `kind`; FormatError when it is damaged."""
    image = opened(source, kind)
    with library_errors(source.name, f"{kind} file", FRESH):
        frames = getattr(image, "n_frames", 1)
    notes = [f"{frames} frames, of which this is the first"] if frames > 1 else []
    return picture_of(image, source, form, notes)


def opened(source: Source, kind: str) -> Image.Image:
    """A file's head as Pillow reads it, its size bounded."""
    if source.size > LARGEST:
        raise FormatError(source.name, f"a {kind} file of {source.size:,} bytes is not read as a whole")
    with library_errors(source.name, f"{kind} file", FRESH), warnings.catch_warnings():
        warnings.simplefilter("ignore")
        image = Image.open(io.BytesIO(source.read(0, source.size)), formats=(kind,))
    check_size(source, *image.size)
    return image


def picture_of(image: Image.Image, source: Source, form: str, notes: list[str]) -> Picture:
    """A picture from one of Pillow's; the file's bytes are decoded now."""
    kind = image.format or form
    with library_errors(source.name, f"{kind} file", FRESH), warnings.catch_warnings():
        warnings.simplefilter("ignore")
        image.load()
        if image.mode in OTHERS:
            notes += [f"stored as {image.mode}"] if image.mode not in ("1", "RGBX") else []
            image = image.convert(OTHERS[image.mode])
    if image.mode in ("I", "I;16B", "I;16N"):
        return _made(np.asarray(image).astype("<u2")[..., None], "l16", form, notes)
    if image.mode not in MODES:
        raise FormatError(source.name, f"pixels of an unknown format: {image.mode}")
    palette = palette_of(image) if image.mode == "P" else None
    array = np.asarray(image)
    if image.mode in ("RGB", "L") and "transparency" in image.info:
        notes.append("one colour is transparent")
    return _made(array[..., None] if array.ndim == 2 else array, MODES[image.mode], form, notes, palette)


def _made(array: Any, name: str, form: str, notes: list[str], palette: Any = None) -> Picture:
    height, width = array.shape[:2]
    data = FORMATS[name].pack(array)
    return Picture(width, height, FORMATS[name], [[data]], palette=palette, form=form, notes=tuple(notes))


def palette_of(image: Image.Image) -> Any:
    """The colours of a palette as red, green, blue and alpha."""
    raw = image.getpalette("RGB") or [0, 0, 0]
    colours = np.full((len(raw) // 3, 4), 255, np.uint8)
    colours[:, :3] = np.array(raw[: len(colours) * 3], np.uint8).reshape(-1, 3)
    clear = image.info.get("transparency")
    if isinstance(clear, bytes):
        count = min(len(clear), len(colours))
        colours[:count, 3] = np.frombuffer(clear, np.uint8)[:count]
    elif isinstance(clear, int) and clear < len(colours):
        colours[clear, 3] = 0
    return colours


def image_of(picture: Picture) -> Image.Image:
    """Pillow's picture of the first surface, in the mode of its pixel format."""
    mode = next((mode for mode, name in MODES.items() if name == picture.format.name), None)
    if mode is None:
        raise RefusedError(f"this format cannot store {picture.format}", "PNG or TIFF")
    pixels, size = picture.pixels(), (picture.width, picture.height)
    image = Image.frombuffer(mode, size, np.ascontiguousarray(pixels), "raw", mode, 0, 1)  # no copy where it can be
    if picture.palette is not None:
        image.putpalette(picture.palette[:256, :3].tobytes(), "RGB")
        if picture.alpha:
            image.info["transparency"] = picture.palette[:256, 3].tobytes()
    return image


def written(picture: Picture, kind: str, options: Mapping[str, Any] | None = None) -> bytes:
    """A file of a kind that Pillow writes. An option that is None is left out."""
    image, out = image_of(picture), io.BytesIO()
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            given = {name: image.info[name] for name in ("transparency",) if name in image.info} | dict(options or {})
            image.save(out, kind, **{name: value for name, value in given.items() if value is not None})
        except (OSError, ValueError) as error:
            raise RefusedError(f"a {kind} file cannot hold this: {error}", "PNG or TIFF") from error
    return out.getvalue()
