"""A picture with all that it has: levels, faces, layers, depth, palette, and what its channels mean."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from volvex.asset.picture.roles import ALPHA, DEFAULT, NORMAL, Roles
from volvex.codec.pixels.format import PixelFormat, Pixels
from volvex.codec.pixels.surface import decode

SRGB, LINEAR, UNKNOWN = "srgb", "linear", ""


@dataclass(frozen=True)
class Picture:
    """A picture as it is stored.

    `surfaces`: for each image (layer by layer, in each face by face) the stored bytes of its levels, the largest first;
    a level of a picture with depth has all its slices. `top_down`: whether the first row of pixels is the upper one.
    `notes`: what a reader could not carry over.
    """

    width: int
    height: int
    format: PixelFormat
    surfaces: Sequence[Sequence[bytes]]
    depth: int = 1
    layers: int = 1
    faces: int = 1
    colour_space: str = UNKNOWN
    palette: NDArray[Any] | None = None  # colours x red, green, blue, alpha
    premultiplied: bool = False
    roles: Roles = DEFAULT
    form: str = ""  # of the file: png, dds
    notes: tuple[str, ...] = ()
    extra: dict[str, Any] = field(default_factory=dict)  # other header fields, for writing the file again
    palette_kept: bool = False  # it belongs to other pictures too: new colours become the nearest

    @property
    def levels(self) -> int:
        """How many levels each image has."""
        return len(self.surfaces[0]) if self.surfaces else 0

    @property
    def images(self) -> int:
        """How many pictures of full size there are: layers and faces."""
        return len(self.surfaces)

    @property
    def alpha(self) -> bool:
        """Whether there is a fourth channel, or colours of the palette are transparent."""
        if self.palette is not None:
            return bool((self.palette[:, 3] < 255).any())
        return "a" in self.format.channels

    def level_size(self, level: int) -> tuple[int, int, int]:
        """Width, height and depth of a level."""
        return max(1, self.width >> level), max(1, self.height >> level), max(1, self.depth >> level)

    def pixels(self, level: int = 0, image: int = 0, slice_: int = 0) -> Pixels:
        """The pixels of one surface as they are stored: height x width x channels."""
        width, height, _ = self.level_size(level)
        size = self.format.size(width, height)
        data = self.surfaces[image][level]
        return decode(self.format, data[slice_ * size : (slice_ + 1) * size], width, height)

    def rgba(self, level: int = 0, image: int = 0, slice_: int = 0) -> Pixels:
        """The pixels of one surface as red, green, blue and alpha of 8 bits: for looking at them."""
        return shown_pixels(self, self.pixels(level, image, slice_))

    def seen(self, level: int = 0, image: int = 0, slice_: int = 0) -> Pixels:
        """The same as a player sees it: a fourth channel that is not opacity makes nothing transparent."""
        pixels = self.rgba(level, image, slice_)
        if self.roles.alpha != ALPHA and "a" in self.format.channels and len(self.format.channels) > 1:
            pixels = pixels.copy()
            pixels[..., 3] = 255
        return pixels

    def with_surfaces(self, surfaces: Sequence[Sequence[bytes]], **changes: Any) -> Picture:
        """The same picture with other stored bytes."""
        return replace(self, surfaces=surfaces, **changes)


def shown_pixels(picture: Picture, pixels: Pixels) -> Pixels:
    """Pixels as red, green, blue and alpha of 8 bits: grey for one channel, the palette's colours for numbers, blue up
    for normals of two."""
    channels = picture.format.channels
    if picture.palette is not None and channels == "i":
        return np.asarray(picture.palette[np.minimum(pixels[..., 0], len(picture.palette) - 1)], np.uint8)
    eight = as_eight_bits(pixels, picture.format.kind)
    out = np.zeros((*pixels.shape[:2], 4), np.uint8)
    out[..., 3] = 255
    if channels in ("r", "l"):
        out[..., :3] = eight
    elif channels == "la":
        out[..., :3], out[..., 3] = eight[..., :1], eight[..., 1]
    elif channels == "a":
        out[..., :3], out[..., 3] = 255, eight[..., 0]
    else:
        for place, channel in enumerate(channels):
            out[..., "rgba".index(channel)] = eight[..., place]
        if channels == "rg" and picture.roles.colour == NORMAL:
            out[..., 2] = third_of(eight)
    return out


def third_of(two: Pixels) -> Pixels:
    """The third channel of normals of which the first two are stored, in 8 bits."""
    vector = two[..., :2].astype(np.float32) / 127.5 - 1
    up = np.sqrt(np.clip(1 - (vector**2).sum(axis=-1), 0, 1))
    return np.asarray(np.rint((up + 1) * 127.5), np.uint8)


def as_eight_bits(pixels: Pixels, kind: str) -> Pixels:
    """Samples of any type in 8 bits; floats from 0 to 1, signed ones from -1 to 1."""
    if kind == "float":
        with np.errstate(invalid="ignore"):
            return np.asarray(np.rint(np.clip(np.nan_to_num(pixels.astype(np.float32)), 0, 1) * 255), np.uint8)
    if kind == "snorm":
        return (pixels.astype(np.int16) + 128).clip(0, 255).astype(np.uint8)
    if pixels.dtype.itemsize == 2:
        return ((pixels.astype(np.uint32) * 255 + 32767) // 65535).astype(np.uint8)
    return pixels
