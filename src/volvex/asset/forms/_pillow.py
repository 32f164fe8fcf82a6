"""What the forms that Pillow reads and writes have in common: its modes as pixel formats, and the other way."""

from __future__ import annotations

import io
import warnings
from collections.abc import Mapping
from typing import Any

import numpy as np
from PIL import Image, UnidentifiedImageError

from volvex.asset.bounds import check_size
from volvex.asset.picture import Picture
from volvex.codec.pixels.format import FORMATS
from volvex.errors import FormatError, RefusedError
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
LARGEST = 1 << 30  # bytes of a file that is read as a whole

Image.MAX_IMAGE_PIXELS = None  # sizes are bounded by what a file can hold


def read(source: Source, kind: str, form: str) -> Picture:
    """The first picture of a file that Pillow calls `kind`; FormatError when it is damaged."""
    image = opened(source, kind)
    notes = [f"{frames} frames, of which this is the first"] if (frames := getattr(image, "n_frames", 1)) > 1 else []
    return picture_of(image, source, form, notes)


def opened(source: Source, kind: str) -> Image.Image:
    """A file's head as Pillow reads it, its size bounded."""
    if source.size > LARGEST:
        raise FormatError(source.name, f"a {kind} file of {source.size:,} bytes is not read as a whole")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            image = Image.open(io.BytesIO(source.read(0, source.size)), formats=(kind,))
    except (
        UnidentifiedImageError,
        OSError,
        ValueError,
        SyntaxError,
        TypeError,
        IndexError,
        KeyError,
        EOFError,
        OverflowError,
        ZeroDivisionError,
    ) as error:
        raise _damaged(source, kind, error) from error
    check_size(source, *image.size)
    return image


def _damaged(source: Source, kind: str, error: Exception) -> FormatError:
    said = str(error).partition("<")[0].strip().rstrip(":") or type(error).__name__
    return FormatError(source.name, f"not a valid {kind} file: {said}", hint="a fresh copy of the file")


def picture_of(image: Image.Image, source: Source, form: str, notes: list[str]) -> Picture:
    """A picture from one of Pillow's; the file's bytes are decoded now."""
    kind = image.format or form
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            image.load()
            if image.mode in OTHERS:
                notes.append(f"stored as {image.mode}") if image.mode not in ("1", "RGBX") else None
                image = image.convert(OTHERS[image.mode])
            if image.mode in ("I", "I;16B", "I;16N"):
                array = np.asarray(image).astype("<u2")
                return _made(array[..., None], "l16", form, notes)
    except Exception as error:  # whatever a library raises at damaged pixels
        raise _damaged(source, kind, error) from error
    if image.mode not in MODES:
        raise FormatError(source.name, f"pixels of an unknown format: {image.mode}")
    palette = palette_of(image) if image.mode == "P" else None
    array = np.asarray(image)
    if image.mode in ("RGB", "L") and "transparency" in image.info:
        notes.append("one colour is transparent")
    return _made(array[..., None] if array.ndim == 2 else array, MODES[image.mode], form, notes, palette)


def _made(array: Any, name: str, form: str, notes: list[str], palette: Any = None) -> Picture:
    height, width = array.shape[:2]
    data = FORMATS[name].encode(array)
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
        raise RefusedError(f"such a file cannot hold {picture.format}", "PNG or TIFF")
    pixels = picture.pixels()
    image = Image.frombytes(mode, (picture.width, picture.height), np.ascontiguousarray(pixels).tobytes())
    if picture.palette is not None:
        image.putpalette(picture.palette[:256, :3].tobytes(), "RGB")
        if picture.alpha:
            image.info["transparency"] = picture.palette[:256, 3].tobytes()
    return image


def written(picture: Picture, kind: str, options: Mapping[str, Any] | None = None) -> bytes:
    """A file of a kind that Pillow writes."""
    image, out = image_of(picture), io.BytesIO()
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            image.save(
                out,
                kind,
                **{
                    **({"transparency": image.info["transparency"]} if "transparency" in image.info else {}),
                    **(options or {}),
                },
            )
        except (OSError, ValueError) as error:
            raise RefusedError(f"a {kind} file cannot hold this: {error}", "PNG or TIFF") from error
    return out.getvalue()
