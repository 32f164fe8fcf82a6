"""Levels made from a larger one: averaged in linear light, normals of length one, as much of a cut-out left as there
was."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from volvex.asset.picture.model import SRGB, Picture
from volvex.asset.picture.roles import NORMAL
from volvex.codec.pixels.format import Pixels

CUT_OUT = 0.9  # share of pixels whose alpha is (nearly) nothing or all: then it is a cut-out, and its area is kept
FILTERS = ("box", "lanczos")

Floats = NDArray[Any]  # of 32 bits


def level_of(picture: Picture, pixels: Pixels, size: tuple[int, int], filter_: str = "box") -> Pixels:
    """A smaller copy of a surface: width and height of the new one, in the same samples.

    Numbers of a palette are taken, not mixed.
    """
    width, height = size
    if picture.format.kind == "index":
        rows = np.minimum((np.arange(height) * pixels.shape[0] + pixels.shape[0] // 2) // height, pixels.shape[0] - 1)
        columns = np.minimum((np.arange(width) * pixels.shape[1] + pixels.shape[1] // 2) // width, pixels.shape[1] - 1)
        return np.asarray(pixels[rows][:, columns])
    values = to_linear(picture, pixels)
    weighed = _weighed(picture, values)
    small = np.stack([_resized(weighed[..., at], width, height, filter_) for at in range(values.shape[2])], axis=2)
    small = _normalised(picture, _unweighed(picture, small))
    if "a" in picture.format.channels:
        at = picture.format.channels.index("a")
        small[..., at] = _covered(values[..., at], small[..., at])
    return from_linear(picture, small)


def to_linear(picture: Picture, pixels: Pixels) -> Floats:
    """Samples from 0 to 1 (signed ones from -1) in linear light, where they are colours."""
    values = pixels.astype(np.float32)
    if picture.format.kind != "float":
        values /= np.float32(picture.format.most)
    for at in _colours(picture):
        channel = values[..., at]
        values[..., at] = np.where(channel <= 0.04045, channel / 12.92, ((channel + 0.055) / 1.055) ** 2.4)
    return values


def from_linear(picture: Picture, values: Floats) -> Pixels:
    """The other direction."""
    for at in _colours(picture):
        channel = np.maximum(values[..., at], 0)
        values[..., at] = np.where(channel <= 0.0031308, channel * 12.92, 1.055 * channel ** (1 / 2.4) - 0.055)
    if picture.format.kind == "float":
        return values.astype(picture.format.sample_type)
    low = -1.0 if picture.format.kind == "snorm" else 0.0
    return np.asarray(np.rint(np.clip(values, low, 1) * picture.format.most), picture.format.sample_type)


def _colours(picture: Picture) -> list[int]:
    """The channels that hold light as sRGB stores it."""
    if picture.colour_space != SRGB or picture.format.kind != "unorm":
        return []
    return [at for at, channel in enumerate(picture.format.channels) if channel in "rgbl"]


def _weighed(picture: Picture, values: Floats) -> Floats:
    """Colours times their alpha, so that what is not seen does not bleed into what is."""
    channels = picture.format.channels
    if "a" not in channels or len(channels) < 2 or picture.premultiplied or picture.roles.alpha != "alpha":
        return values
    at = channels.index("a")
    out = values * np.maximum(values[..., at : at + 1], 1 / 1024)
    out[..., at] = values[..., at]
    return out


def _unweighed(picture: Picture, values: Floats) -> Floats:
    channels = picture.format.channels
    if "a" not in channels or len(channels) < 2 or picture.premultiplied or picture.roles.alpha != "alpha":
        return values
    at = channels.index("a")
    out = values / np.maximum(values[..., at : at + 1], 1 / 1024)
    out[..., at] = values[..., at]
    return out


def _resized(channel: Floats, width: int, height: int, filter_: str) -> Floats:
    rows, columns = channel.shape
    if filter_ == "box" and rows == height * 2 and columns == width * 2:
        return np.asarray(channel.reshape(height, 2, width, 2).mean(axis=(1, 3), dtype=np.float32))
    from PIL import Image

    way = Image.Resampling.LANCZOS if filter_ == "lanczos" else Image.Resampling.BOX
    return np.asarray(Image.fromarray(np.ascontiguousarray(channel)).resize((width, height), way))


def _normalised(picture: Picture, values: Floats) -> Floats:
    if picture.roles.colour != NORMAL or len(picture.format.channels) < 3:
        return values
    signed = picture.format.kind == "snorm"
    vectors = values[..., :3] if signed else values[..., :3] * 2 - 1
    length = np.sqrt((vectors**2).sum(axis=2, keepdims=True))
    vectors = np.where(length > 1e-6, vectors / np.maximum(length, 1e-6), vectors)
    values[..., :3] = vectors if signed else (vectors + 1) / 2
    return values


def _covered(whole: Floats, small: Floats) -> Floats:
    """The alpha of a cut-out, scaled so that as large a share of it is more than half as in the whole."""
    if np.mean((whole < 0.06) | (whole > 0.94)) < CUT_OUT or not (whole < 0.5).any():
        return small
    wanted, low, high = float(np.mean(whole > 0.5)), 0.0, 4.0
    if not 0 < wanted < 1:
        return small
    for _ in range(12):
        middle = (low + high) / 2
        low, high = (low, middle) if np.mean(small * middle > 0.5) > wanted else (middle, high)
    return np.asarray(np.clip(small * high, 0, 1), np.float32)


def chain_length(width: int, height: int, depth: int = 1) -> int:
    """How many levels there can be, down to one pixel."""
    return max(width, height, depth).bit_length()
