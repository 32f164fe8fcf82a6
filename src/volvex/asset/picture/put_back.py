"""An edited picture put back into the original: what was not touched keeps its stored bytes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from volvex.asset.picture.levels import level_of
from volvex.asset.picture.model import Picture
from volvex.codec.pixels.blocks import HALVES, by_blocks, encode_some
from volvex.codec.pixels.format import PixelFormat, Pixels
from volvex.codec.pixels.surface import encode
from volvex.errors import RefusedError

Mask = NDArray[Any]  # of truth values


@dataclass(frozen=True)
class PutBack:
    """A picture with an edit in it: how many pixels of the whole differ, and how many blocks of all levels were made
    again."""

    picture: Picture
    pixels: int
    blocks: int


def put_back(
    picture: Picture,
    edited: Mapping[int, Pixels],
    image: int = 0,
    slice_: int = 0,
    filter_: str = "box",
    decoded: Mapping[int, Pixels] | None = None,
) -> PutBack:
    """A picture in which an image has other pixels: those of the levels that are given, smaller levels made of the
    larger.

    `decoded`: the stored pixels of levels that the caller has decoded already.

    RefusedError for pixels of another size, and for changes in a format that cannot be written.
    """
    surfaces = [list(levels) for levels in picture.surfaces]
    size = picture.format.size(*picture.level_size(0)[:2])
    blocks = changed = 0
    above: Pixels = np.zeros((0, 0, 0), np.uint8)  # of the level before
    mask: Mask = np.zeros((1, 1), bool)
    for level in range(picture.levels if picture.depth == 1 or not slice_ else 1):
        width, height, _ = picture.level_size(level)
        old = decoded[level] if decoded and level in decoded else picture.pixels(level, image, slice_)
        new = edited.get(level)
        if new is not None:
            if new.shape != old.shape:
                raise RefusedError(
                    f"the picture has {new.shape[1]} x {new.shape[0]} pixels, expected {width} x {height}",
                    "a picture of that size",
                )
            own: Mask = differing(old, new)
        elif level and mask.any() and picture.depth == 1:
            own, new = _made_smaller(picture, above, mask, old, filter_)
        else:
            own, new = np.zeros(old.shape[:2], bool), old
        if own.any():
            size = picture.format.size(width, height)
            whole = bytes(surfaces[image][level])
            start = slice_ * size
            data, count = _stored(picture.format, new, old, whole[start : start + size], own)
            surfaces[image][level] = whole[:start] + data + whole[start + size :]
            blocks += count
            changed = changed or (int(np.count_nonzero(own)) if not level else 0)
        above, mask = new, own
    return PutBack(picture.with_surfaces(surfaces), changed, blocks)


def differing(pixels: Pixels, others: Pixels) -> Mask:
    """Which pixels of two surfaces of one size and type differ."""
    size = pixels.shape[2] * pixels.itemsize
    if size in (1, 2, 4, 8):  # a pixel as one number: several times as fast
        pair = [
            np.ascontiguousarray(one).view(f"u{size}")[..., 0]
            for one in (pixels, others.astype(pixels.dtype, copy=False))
        ]
        return np.asarray(pair[0] != pair[1])
    return np.asarray((pixels != others).any(axis=2))


def _made_smaller(picture: Picture, above: Pixels, mask: Mask, old: Pixels, filter_: str) -> tuple[Mask, Pixels]:
    """A level of the one above it, where that has changed: which pixels those are, and all of the level."""
    height, width = old.shape[:2]
    halves = above.shape[0] == 2 * height and above.shape[1] == 2 * width
    if not halves or filter_ != "box" or picture.format.kind == "index":
        rows = np.minimum(np.arange(above.shape[0]) * height // above.shape[0], height - 1)
        columns = np.minimum(np.arange(above.shape[1]) * width // above.shape[1], width - 1)
        own = np.zeros((height, width), bool)
        touched = np.argwhere(mask)
        own[rows[touched[:, 0]], columns[touched[:, 1]]] = True
        own = _grown(own, 3 if filter_ != "box" else 1)
        made = level_of(picture, above, (width, height), filter_)
        return own, np.where(own[..., None], made, old)
    own = np.asarray(mask.reshape(height, 2, width, 2).any(axis=(1, 3)))
    down, across = np.flatnonzero(own.any(axis=1)), np.flatnonzero(own.any(axis=0))
    top, bottom, left, right = down[0], down[-1] + 1, across[0], across[-1] + 1
    part = above[2 * top : 2 * bottom, 2 * left : 2 * right]
    new = old.copy()
    made = level_of(picture, part, (right - left, bottom - top), filter_)
    inner = own[top:bottom, left:right]
    new[top:bottom, left:right][inner] = made[inner]
    return own, new


def _grown(mask: Mask, by: int) -> Mask:
    """A mask with the pixels around those that are set."""
    for axis in (0, 1):
        out = mask.copy()
        for step in range(1, by + 1):
            forward, back = [slice(None)] * 2, [slice(None)] * 2
            forward[axis], back[axis] = slice(step, None), slice(None, -step)
            out[tuple(forward)] |= mask[tuple(back)]
            out[tuple(back)] |= mask[tuple(forward)]
        mask = out
    return mask


def _stored(form: PixelFormat, pixels: Pixels, old: Pixels, data: bytes, mask: Mask) -> tuple[bytes, int]:
    """A surface's bytes with its changed pixels, and how many blocks (or pixels) that are."""
    height, width = mask.shape
    if form.is_block:
        changed = pixels != old if form.name in HALVES else mask[..., None]
        return encode_some(form, pixels, data, changed), int(np.count_nonzero(by_blocks(form, mask)))
    made = encode(form, np.ascontiguousarray(pixels))
    if form.bits % 8:
        return made, int(np.count_nonzero(mask))
    kind = f"V{form.bits // 8}"
    stored: Any = np.frombuffer(data, kind, width * height).reshape(height, width).copy()
    stored[mask] = np.frombuffer(made, kind).reshape(height, width)[mask]  # bits that no channel has stay as they were
    return stored.tobytes(), int(np.count_nonzero(mask))
