"""Frames cut out of a sheet, put back, and the sheet packed again when one no longer fits."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from volvex.asset.sprite.model import Frame
from volvex.codec.pixels.format import Pixels
from volvex.errors import FormatError, RefusedError

PADDING = 2  # transparent pixels between frames
EDGE = 1  # pixels by which a frame's border is repeated around it, so that nothing bleeds in
LARGEST = 1 << 14  # pixels of a sheet's side
MOST = 1 << 28  # pixels of all sprites together
Places = dict[str, tuple[int, int, bool]]  # of each sprite: left, top, and whether it is turned


@dataclass(frozen=True)
class Edit:
    """What is wanted of a sheet: new pictures for frames by their names, other names, new frames, and frames taken
    out."""

    sprites: Mapping[str, Pixels]
    renamed: Mapping[str, str] = field(default_factory=dict)
    added: Mapping[str, Pixels] = field(default_factory=dict)
    removed: frozenset[str] = frozenset()


@dataclass(frozen=True)
class Packed:
    """A sheet with its frames before and after, None where one was not or is no more; whether all frames have new
    places."""

    pixels: Pixels
    pairs: tuple[tuple[Frame | None, Frame | None], ...]
    repacked: bool


def check_inside(frames: Sequence[Frame], width: int, height: int, file: str) -> None:
    """FormatError for a frame that is not in its sheet."""
    for frame in frames:
        x, y, wide, high = frame.box
        if min(x, y, wide, high) < 0 or x + wide > width or y + high > height:
            raise FormatError(
                file,
                f"the frame {frame.name} is {wide} x {high} at {x}, {y}, outside of its sheet of {width} x {height}",
                hint="the sheet that belongs to this list",
            )
        if min(frame.left, frame.top) < 0 or max(whole_size(frame)) > LARGEST:
            raise FormatError(
                file,
                f"the frame {frame.name} lies at {frame.left}, {frame.top} in {frame.whole_width} x "
                f"{frame.whole_height} pixels",
                hint="the sheet that belongs to this list",
            )
    total = sum(wide * high for wide, high in map(whole_size, frames))
    if total > MOST:
        raise FormatError(file, f"its frames have {total:,} pixels together, {MOST:,} at most", hint="fewer frames")


def whole_size(frame: Frame) -> tuple[int, int]:
    """Width and height of a sprite with what was trimmed; a list may store a smaller size."""
    return max(frame.whole_width, frame.left + frame.width), max(frame.whole_height, frame.top + frame.height)


def cut(sheet: Pixels, frame: Frame) -> Pixels:
    """One sprite, upright and in its whole size; what was trimmed is transparent."""
    x, y, wide, high = frame.box
    part = sheet[y : y + high, x : x + wide]
    part = np.rot90(part, 1) if frame.turned else part
    size = whole_size(frame)
    whole = np.zeros((size[1], size[0], 4), np.uint8)
    _part(whole, frame)[:] = part
    return whole


def _part(whole: Pixels, frame: Frame) -> Pixels:
    """What of a whole sprite is in the sheet."""
    return whole[frame.top : frame.top + frame.height, frame.left : frame.left + frame.width]


def put_in(sheet: Pixels, frames: Sequence[Frame], edit: Edit) -> Packed:
    """An edited sheet: sprites in their places when they fit there and no other frame shares them, else in new
    places."""
    kept = [frame for frame in frames if frame.name not in edit.removed]
    whole = {
        frame.name: edit.sprites[frame.name] if frame.name in edit.sprites else cut(sheet, frame) for frame in kept
    }
    pairs: list[tuple[Frame | None, Frame | None]] = [
        (frame, replace(frame, name=edit.renamed.get(frame.name, frame.name))) for frame in kept
    ]
    pairs += [(frame, None) for frame in frames if frame.name in edit.removed]
    edited = [frame for frame in kept if frame.name in edit.sprites]
    if not edit.added and all(_fits(frame, whole[frame.name]) for frame in edited):
        out = sheet.copy()
        for frame in edited:
            part = _part(whole[frame.name], frame)
            x, y, wide, high = frame.box
            out[y : y + high, x : x + wide] = np.rot90(part, -1) if frame.turned else part
        if all(np.array_equal(_part(cut(out, frame), frame), _part(whole[frame.name], frame)) for frame in kept):
            return Packed(out, tuple(pairs), False)
    return _repacked(sheet, kept, whole, edit, pairs)


def _fits(frame: Frame, new: Pixels) -> bool:
    """Whether a sprite has its old size, and nothing where it was trimmed."""
    if (new.shape[1], new.shape[0]) != whole_size(frame):
        return False
    outside = new.copy()
    _part(outside, frame)[:] = 0
    return not outside[..., 3].any()


def _repacked(
    sheet: Pixels,
    kept: Sequence[Frame],
    whole: Mapping[str, Pixels],
    edit: Edit,
    pairs: Sequence[tuple[Frame | None, Frame | None]],
) -> Packed:
    """All frames placed again, the same picture once: upright, or turned where their list can store that and upright
    there is no room; after that the sheet grows."""
    frames: dict[str, Frame] = {}
    sprites: dict[str, Pixels] = {}
    like = kept[0] if kept else pairs[0][0]
    assert like is not None
    old = [(frame.name, frame, whole[frame.name], frame.name in edit.sprites) for frame in kept]
    new = [(name, replace(like, name=name), picture, True) for name, picture in edit.added.items()]
    for name, frame, picture, edited in [*old, *new]:
        part = _trimmed(frame, picture, edited)
        frames[name] = replace(part, turned=False, name=edit.renamed.get(name, name))
        sprites[name] = _part(picture, part)
    sprites = {name: sprite for name, sprite in sprites.items() if sprite.size}  # frames of nothing stay where they are
    first = {(sprite.shape, sprite.tobytes()): name for name, sprite in reversed(sprites.items())}
    single = {name: sprites[name] for name in first.values()}
    can_turn = all("turned" in frame.properties for frame in frames.values())
    places, (width, height) = _room(single, sheet.shape[1], sheet.shape[0], can_turn)
    out = np.zeros((height, width, 4), np.uint8)
    for name, (x, y, turned) in places.items():
        sprite = np.rot90(single[name], -1) if turned else single[name]
        room = np.pad(sprite, ((EDGE, EDGE), (EDGE, EDGE), (0, 0)), mode="edge")
        out[y - EDGE : y + sprite.shape[0] + EDGE, x - EDGE : x + sprite.shape[1] + EDGE] = room
    for name, sprite in sprites.items():
        x, y, turned = places[first[sprite.shape, sprite.tobytes()]]
        frames[name] = replace(frames[name], x=x, y=y, turned=turned)
    moved = [(before, frames[before.name] if before and after else None) for before, after in pairs if before]
    return Packed(out, (*moved, *((None, frames[name]) for name in edit.added)), True)


def _room(sprites: Mapping[str, Pixels], width: int, height: int, can_turn: bool) -> tuple[Places, tuple[int, int]]:
    """Where each sprite goes, in a sheet of that size or a larger one; RefusedError when none is large enough."""
    while True:
        for turning in (False, True) if can_turn else (False,):
            places = _places(sprites, width, height, turning)
            if places is not None:
                return places, (width, height)
        if max(width, height) * 2 > LARGEST:
            raise RefusedError(f"the sprites do not fit into a sheet of {LARGEST} x {LARGEST}", "smaller ones")
        width, height = (width * 2, height) if width < height else (width, height * 2)


def _trimmed(frame: Frame, whole: Pixels, edited: bool) -> Frame:
    """A frame around the pixels that are not transparent, where its list can store that."""
    high, wide = whole.shape[:2]
    if not edited:
        return frame
    size = {"whole_width": wide, "whole_height": high}
    if not frame.can_trim:
        return replace(frame, left=0, top=0, width=wide, height=high, **size)
    rows, columns = np.flatnonzero(whole[..., 3].any(axis=1)), np.flatnonzero(whole[..., 3].any(axis=0))
    if not len(rows):
        return replace(frame, left=0, top=0, width=1, height=1, **size)
    left, top = int(columns[0]), int(rows[0])
    return replace(frame, left=left, top=top, width=int(columns[-1]) + 1 - left, height=int(rows[-1]) + 1 - top, **size)


def _places(sprites: Mapping[str, Pixels], width: int, height: int, turning: bool) -> Places | None:
    """Where each sprite goes in a sheet of that size, and whether it is turned; None when they do not fit."""
    import rectpack

    room = 2 * EDGE + PADDING
    packer = rectpack.newPacker(rotation=turning)
    for name, sprite in sprites.items():
        packer.add_rect(sprite.shape[1] + room, sprite.shape[0] + room, name)
    packer.add_bin(width, height)
    packer.pack()
    found = {
        name: (x + EDGE, y + EDGE, wide != sprites[name].shape[1] + room)
        for _, x, y, wide, _, name in packer.rect_list()
    }
    return found if len(found) == len(sprites) else None
