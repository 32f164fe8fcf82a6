"""Pictures out to open forms and back: what an edit changed is put into the original, all else keeps its stored bytes.

What is exported may hold less than the original (8 bits in place of a float, three channels in place of two). So an
edit is found by comparing with what was exported, not with the original; only pixels that differ are taken over.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from volvex.archive.detect import filetypes
from volvex.asset.kind import Edited
from volvex.asset.picture.formats import PictureFormat, by_kind, form_of
from volvex.asset.picture.levels import chain_length, level_of
from volvex.asset.picture.model import SRGB, Picture, shown_pixels, third_of
from volvex.asset.picture.palette import new_palette, to_palette
from volvex.asset.picture.put_back import differing, put_back
from volvex.asset.picture.roles import DEFAULT, NORMAL, Roles
from volvex.codec.pixels.format import FORMATS, PixelFormat, Pixels
from volvex.codec.pixels.surface import encode
from volvex.errors import FormatError, RefusedError, VolvexError

SAMPLES = {"u1": "8", "u2": "16", "i1": "8", "f2": "16f", "f4": "32f"}
WIDER = {
    "l": ("l", "rgb", "rgba"),
    "la": ("la", "rgba"),
    "rgb": ("rgb", "rgba"),
    "rgba": ("rgba", "rgb"),
    "i": ("i", "rgb"),
}
PLAIN = {"r": "l", "rg": "rgb", "a": "l"}  # what programs open in place of channels that they do not know
LESS = {"16f": ("16f", "32f", "16", "8"), "32f": ("32f", "16f", "16", "8"), "16": ("16", "32f", "8"), "8": ("8", "16")}
PARTS = ("rgb", "a")  # with the channels apart
LEVEL = re.compile(r"level ([0-9]+)")  # a part that is one level


@dataclass(frozen=True)
class Exported:
    """A picture as an open form holds it, and what it does not carry."""

    picture: Picture
    notes: tuple[str, ...] = ()


@dataclass(frozen=True)
class TakenOver:
    """The original with an edit in it: how many pixels differ, how many blocks were encoded again, and notes for the
    user."""

    picture: Picture
    pixels: int
    blocks: int
    notes: tuple[str, ...] = ()


def exported(
    picture: Picture, extension: str, part: str = "", level: int = 0, image: int = 0, decoded: Pixels | None = None
) -> Exported:
    """One surface of a picture for an open form: the colours alone or the alpha alone when a `part` is asked for.

    `decoded`: the pixels of the surface, where the caller has them already.
    """
    form = form_of(extension)
    if not form.LIMITS:  # it holds all that a picture has
        return _exported_whole(picture, form)
    pixels = picture.pixels(level, image) if decoded is None else decoded
    channels, kind = picture.format.channels, picture.format.kind
    palette, notes = picture.palette, list[str]()
    if part:
        pixels, channels = _part(picture, pixels, part)
        palette = None
    target, lost = _target(form, channels, picture.format, palette is not None)
    notes += lost
    made = converted(pixels, (channels, picture.format), target, picture.roles, palette)
    if picture.images > 1 or picture.depth > 1:
        notes.append(f"picture {image} of {picture.images}" + (f", {picture.depth} deep" if picture.depth > 1 else ""))
    if kind == "float" and target.kind != "float" and bool((np.nan_to_num(pixels.astype(np.float32)) > 1).any()):
        notes.append("values above 1 are cut off")
    height, width = pixels.shape[:2]
    kept = palette if target.kind == "index" else None
    return Exported(
        Picture(
            width,
            height,
            target,
            [[encode(target, made)]],
            colour_space=picture.colour_space,
            palette=kept,
            roles=picture.roles,
        ),
        tuple(notes),
    )


def _exported_whole(picture: Picture, form: PictureFormat) -> Exported:
    """All of a picture: as it is stored where the form can hold that, otherwise in the pixels that come next."""
    if picture.format.name in form.FORMATS:
        return Exported(replace(picture, form="", extra={}))
    own = picture.format
    sample = "16" if own.fields and own.sample == "u2" else SAMPLES[own.sample if own.kind != "index" else "u1"]
    wider = [f"{channels}{less}" for less in LESS[sample] for channels in ("rgb", "rgba")]
    target = FORMATS[next(name for name in wider if name in form.FORMATS and ("a" in name or not picture.alpha))]
    surfaces = [
        [
            b"".join(
                encode(
                    target,
                    converted(
                        picture.pixels(level, image, at), (own.channels, own), target, picture.roles, picture.palette
                    ),
                )
                for at in range(picture.level_size(level)[2])
            )
            for level in range(picture.levels)
        ]
        for image in range(picture.images)
    ]
    return Exported(
        replace(picture, format=target, surfaces=surfaces, palette=None, form="", extra={}), (f"{own} became {target}",)
    )


def _part(picture: Picture, pixels: Pixels, part: str) -> tuple[Pixels, str]:
    channels = picture.format.channels
    if not picture.alpha or len(channels) < 2:
        raise RefusedError(f"there is no alpha channel in {picture.format}", "leaving --channels out")
    if channels == "i":
        shown = shown_pixels(picture, pixels)
        return (shown[..., 3:], "a") if part == "a" else (shown[..., :3], "rgb")
    at = channels.index("a")
    return (pixels[..., at : at + 1], "a") if part == "a" else (pixels[..., :at], channels[:at])


def _target(form: PictureFormat, channels: str, own: PixelFormat, paletted: bool) -> tuple[PixelFormat, list[str]]:
    """The pixel format in which a form holds channels best, and what that loses."""
    plain = PLAIN.get(channels, channels)
    samples = LESS[SAMPLES[own.sample if own.kind != "index" else "u1"]]
    if own.fields and own.sample == "u2":
        samples = LESS["16"]
    if paletted and "pal8" in form.FORMATS:
        return FORMATS["pal8"], []
    for sample in samples:
        for wide in WIDER.get("rgb" if plain == "i" else plain, (plain,)):
            name = f"{wide}{sample}"
            if name not in form.FORMATS:
                continue
            lost = (
                [f"{samples[0]} bits became {sample}"]
                if sample != samples[0] and samples[0] != "8" and sample == "8"
                else []
            )
            lost += ["the alpha channel is left out"] if "a" in plain and plain != "a" and "a" not in wide else []
            return FORMATS[name], lost
    raise RefusedError(f"{form.EXTENSIONS[0]} files cannot hold {own}", "png or tiff")


def converted(
    pixels: Pixels, own: tuple[str, PixelFormat], target: PixelFormat, roles: Roles = DEFAULT, palette: Any = None
) -> Pixels:
    """Pixels of some channels in those of another format; `own`: their channels and samples."""
    channels, form = own
    if channels == "i":
        if target.kind == "index":
            return pixels
        assert palette is not None
        pixels, channels, form = palette[np.minimum(pixels[..., 0], len(palette) - 1)], "rgba", FORMATS["rgba8"]
    values = resampled(pixels, form, target)
    if channels == target.channels:
        return values  # a copy of a large picture is not made for nothing
    columns = [_channel(values, channels, wanted, target, roles) for wanted in target.channels]
    return np.stack(columns, axis=-1).astype(target.sample_type, copy=False)


def resampled(pixels: Pixels, form: PixelFormat, target: PixelFormat) -> Pixels:
    """Samples of one type as those of another: whole numbers stand for 0 to 1, signed ones for -1 to 1."""
    if (form.kind, form.sample) == (target.kind, target.sample):
        return pixels
    if form.kind == "float" or target.kind == "float":
        values = pixels.astype(np.float32)
        if form.kind != "float":
            values = values / np.float32(form.most)
            return np.asarray(values.astype(target.sample_type))
        if target.kind == "float":
            return np.asarray(values.astype(target.sample_type))
        low = -1.0 if target.kind == "snorm" else 0.0
        return np.asarray(np.rint(np.clip(np.nan_to_num(values), low, 1) * target.most).astype(target.sample_type))
    numbers = pixels.astype(np.int64)
    if form.kind == "snorm":
        numbers = numbers + 128
    eight = form.sample in ("u1", "i1")
    if target.sample == "u2" and eight:
        return np.asarray((numbers * 257).astype(np.uint16))
    if target.sample in ("u1", "i1") and not eight:
        numbers = (numbers * 255 + 32767) // 65535
    return np.asarray((numbers - 128 if target.kind == "snorm" else numbers).astype(target.sample_type))


def _channel(values: Pixels, channels: str, wanted: str, target: PixelFormat, roles: Roles) -> Pixels:
    """One channel of those that are there."""
    if wanted in channels:
        return np.asarray(values[..., channels.index(wanted)])
    if wanted == "a":
        return np.full(values.shape[:-1], target.most, values.dtype) if channels != "l" else values[..., 0]
    if channels in ("r", "l", "la", "a"):
        return np.asarray(values[..., 0])
    if wanted == "l":
        grey = values[..., :3].astype(np.float64) @ [0.2126, 0.7152, 0.0722] if len(channels) > 2 else values[..., 0]
        return np.asarray(grey if target.kind == "float" else np.rint(grey))
    if wanted == "b" and channels == "rg" and roles.colour == NORMAL and target.sample == "u1":
        return third_of(values)
    return np.zeros(values.shape[:-1], values.dtype)


def taken_over(
    original: Picture,
    edited: Picture,
    extension: str,
    part: str = "",
    levels: Mapping[int, Picture] | None = None,
    filter_: str = "box",
) -> TakenOver:
    """An edited file put into the original; RefusedError when it does not fit in, with what would."""
    form = form_of(extension)
    if not form.LIMITS:
        return _whole(original, edited, filter_)
    notes, made, palette = list[str](), dict[int, Pixels](), original.palette
    stored = dict[int, Pixels]()  # decoded once: for a large texture that is most of the work
    for level, file in {0: edited, **(levels or {})}.items():
        width, height, _ = original.level_size(level)
        if (file.width, file.height) != (width, height):
            raise RefusedError(
                f"the picture has {file.width} x {file.height} pixels, the game's own has {width} x {height}",
                f"a picture of {width} x {height}, or --resize",
            )
        stored[level] = own = original.pixels(level)
        out = exported(original, extension, part, level, decoded=own).picture
        before, after = _comparable(out), _comparable(file, out)
        mask = differing(before[0], after)
        notes += _lost_alpha(out, file)
        pixels = own.copy()
        if mask.any() and original.palette is not None:
            rgba = _rgba(after[mask], before[1])
            pixels[mask], palette, said = to_palette(original, pixels, mask, rgba, palette)
            notes += said
        elif mask.any():
            pixels[mask] = _back(original, pixels[mask], after[mask], before[1], part)
        made[level] = pixels
    result = put_back(replace(original, palette=palette), made, filter_=filter_, decoded=stored)
    return TakenOver(result.picture, result.pixels, result.blocks, tuple(dict.fromkeys(notes)))


def level_in(part: str) -> int:
    """The level that a part is; 0 for any other part."""
    level = LEVEL.fullmatch(part)
    return int(level[1]) if level else 0


def taken_over_together(base: Picture, edits: Sequence[Edited]) -> TakenOver:
    """A picture with all that several files hold: the whole or its parts first, single levels with them."""
    picture, pixels, blocks, notes = base, 0, 0, list[str]()
    levels = {level_in(edit.part): _edited(edit) for edit in edits if level_in(edit.part)}
    whole = [edit for edit in edits if not level_in(edit.part)]
    for edit in whole:
        last = levels if edit is whole[-1] else None
        edited = _edited(edit)
        try:
            result = taken_over(picture, edited, edit.extension, edit.part, last)
        except VolvexError as error:
            raise RefusedError(f"{edit.name}: {error.message}", error.hint) from error
        picture, pixels, blocks = result.picture, pixels + result.pixels, blocks + result.blocks
        notes += result.notes
    if levels and not whole:
        result = taken_over(picture, exported(picture, "png").picture, "png", levels=levels)
        picture, blocks = result.picture, result.blocks
    return TakenOver(picture, pixels, blocks, tuple(dict.fromkeys(notes)))


def _edited(edit: Edited) -> Picture:
    from volvex.asset.picture.open import open_picture

    found = open_picture(edit.source)
    if found is None:
        kind = filetypes.kind_by_content(edit.source.peek(0, filetypes.HEAD))
        raise FormatError(edit.name, f"this is no picture, but {kind}", hint="saving it again as a picture")
    return found.picture


def _comparable(file: Picture, like: Picture | None = None) -> Any:
    """The pixels of a file by which edits are found; without `like` also the format that they have."""
    own = file.format
    paletted = file.palette is not None
    if like is None:
        if paletted:
            return shown_pixels(file, file.pixels()), FORMATS["rgba8"]
        return file.pixels(), own
    target = FORMATS["rgba8"] if like.palette is not None else like.format
    source = (
        (shown_pixels(file, file.pixels()), ("rgba", FORMATS["rgba8"]))
        if paletted
        else (file.pixels(), (own.channels, own))
    )
    pixels = converted(source[0], source[1], target, like.roles)
    if (
        "a" in target.channels and "a" not in own.channels and not paletted
    ):  # an editor that dropped the alpha means the colours
        at = target.channels.index("a")
        pixels = pixels.copy()
        pixels[..., at] = _comparable(like)[0][..., at]
    return pixels


def _lost_alpha(out: Picture, file: Picture) -> list[str]:
    if (
        out.alpha
        and not file.alpha
        and out.palette is None
        and "a" not in file.format.channels
        and file.palette is None
    ):
        return ["the file has no alpha channel: the game's own is kept"]
    return []


def _rgba(pixels: Pixels, form: PixelFormat) -> Pixels:
    return np.asarray(converted(pixels[None], (form.channels, form), FORMATS["rgba8"])[0])


def _back(original: Picture, before: Pixels, edited: Pixels, form: PixelFormat, part: str) -> Pixels:
    """Edited pixels in the original's format; channels that were not exported stay."""
    own = original.format
    plain = replace(
        own,
        channels=part if part == "a" else own.channels.replace("a", "") if part else own.channels,
        order="",
        fields=(),
    )
    made = converted(edited[None], ("a" if part == "a" else form.channels, form), plain, original.roles)[0]
    out = before.copy()
    for place, channel in enumerate(plain.channels):
        out[..., own.channels.index(channel)] = made[..., place]
    return out


def _whole(original: Picture, edited: Picture, filter_: str) -> TakenOver:
    """A file that holds all that a picture has: the same format, or pixels that are converted, level by level."""
    if (edited.width, edited.height) != (original.width, original.height):
        raise RefusedError(
            f"the picture has {edited.width} x {edited.height} pixels, the game's own has {original.width} x "
            f"{original.height}",
            f"a picture of {original.width} x {original.height}, or --resize",
        )
    if edited.images != original.images or edited.depth != original.depth:
        raise RefusedError(
            f"the file has {edited.images} pictures, {edited.depth} deep; the game's own {original.images}, "
            f"{original.depth} deep",
            "a file with as many",
        )
    if original.palette is not None:
        raise RefusedError("the game's own picture has a palette, this format cannot store one", "png")
    picture, pixels, blocks, notes = original, 0, 0, list[str]()
    if edited.levels < original.levels:
        notes.append(f"{original.levels - edited.levels} levels that the file has not are made of the larger ones")
    for image in range(original.images):
        levels = {
            level: converted(
                edited.pixels(level, image),
                (edited.format.channels, edited.format),
                original.format,
                original.roles,
                edited.palette,
            )
            for level in range(min(edited.levels, original.levels))
        }
        if edited.format == original.format:
            surfaces = [list(surface) for surface in picture.surfaces]
            for level in levels:
                same = bytes(surfaces[image][level]) == bytes(edited.surfaces[image][level])
                pixels += (
                    0
                    if same or level
                    else int(np.count_nonzero(differing(original.pixels(level, image), levels[level])))
                )
                surfaces[image][level] = edited.surfaces[image][level]
            picture = picture.with_surfaces(surfaces)
            continue
        result = put_back(picture, levels, image, filter_=filter_)
        picture, pixels, blocks = result.picture, pixels + result.pixels, blocks + result.blocks
    return TakenOver(picture, pixels, blocks, tuple(notes))


def replaced(
    original: Picture, user: Picture, resize: bool = False, any_size: bool = False, recolour: bool = False
) -> TakenOver:
    """A user's picture as the game has its own: its pixel format, number of levels, channels.

    Of another size only with `resize` (it becomes that of the original) or `any_size` (the original's becomes that of
    the user's). With `recolour` it gets a palette of its own in place of the original's.
    """
    why = _no_new_palette(original) if recolour else ""
    if why:
        raise RefusedError(f"the game's own picture {why}", "leaving --palette out")
    extension = "tiff" if original.format.kind == "float" or original.format.sample == "u2" else "png"
    same = (user.width, user.height) == (original.width, original.height)
    notes: tuple[str, ...] = ()
    if not same and resize:
        notes = (f"resized from {user.width} x {user.height}",)
        user = resized(user, original.width, original.height)
    elif not same and any_size:
        return _rebuilt(original, user, extension)
    elif not same:
        raise RefusedError(
            f"the picture has {user.width} x {user.height} pixels, the game's own has {original.width} x "
            f"{original.height}",
            "--resize, or --anyway if the game takes pictures of other sizes there",
        )
    if recolour:
        result = _recoloured(original, user)
    elif original.palette is None and user.images == original.images and not form_of_picture(user).LIMITS:
        result = _whole(original, user, "box")
    else:
        result = taken_over(original, user, extension)
    return replace(result, notes=(*notes, *result.notes))


def _no_new_palette(original: Picture) -> str:
    """Why a picture can get no new palette; nothing when it can."""
    if original.palette is None:
        return "has no palette"
    if original.palette_kept:
        return "shares its palette with other pictures"
    return "has faces, layers or depth, all in one palette" if original.images > 1 or original.depth > 1 else ""


def _recoloured(original: Picture, user: Picture) -> TakenOver:
    """A user's picture with a palette made for it, of as many colours as the original's, and all levels made of it."""
    assert original.palette is not None
    rgba, notes = shown_pixels(user, user.pixels()).copy(), list[str]()
    if not original.alpha and bool((rgba[..., 3] < 255).any()):
        rgba[..., 3] = 255
        notes.append("the palette has no transparent colours: the alpha channel is left out")
    size = min(len(original.palette), 1 << original.format.bits)
    numbers, palette, had = new_palette(rgba, size)
    if had > size:
        notes.append(f"{had:,} colours became the {size} of a new palette")
    whole = original.palette.copy()
    whole[:size] = palette
    blank = replace(original, palette=whole)
    levels = [numbers]
    for level in range(1, original.levels):
        levels.append(level_of(blank, levels[-1], original.level_size(level)[:2]))
    surfaces = [[encode(original.format, level) for level in levels]]
    changed = differing(original.rgba(), blank.with_surfaces(surfaces).rgba())
    return TakenOver(blank.with_surfaces(surfaces), int(np.count_nonzero(changed)), 0, tuple(notes))


def form_of_picture(picture: Picture) -> PictureFormat:
    """The form of the file that a picture came from."""
    return by_kind()[picture.form] if picture.form in by_kind() else form_of("png")


def resized(picture: Picture, width: int, height: int) -> Picture:
    """One picture in another size; the first level of the first image alone."""
    pixels = level_of(replace(picture, colour_space=SRGB), picture.pixels(), (width, height), "lanczos")
    return replace(
        picture, width=width, height=height, depth=1, layers=1, faces=1, surfaces=[[encode(picture.format, pixels)]]
    )


def _rebuilt(original: Picture, user: Picture, extension: str) -> TakenOver:
    """A picture of the user's size, with as many levels as there can be when the original had all, or as the
    original."""
    if original.images > 1 or original.depth > 1:
        raise RefusedError("a picture with faces, layers or depth keeps its size", "--resize")
    full = original.levels == chain_length(original.width, original.height)
    most = chain_length(user.width, user.height)
    count = most if full and original.levels > 1 else min(original.levels, most)
    sizes = [(max(1, user.width >> level), max(1, user.height >> level)) for level in range(count)]
    empty = [bytes(original.format.size(*size)) for size in sizes]
    blank = replace(original, width=user.width, height=user.height, surfaces=[empty])
    pixels = _blank_edit(original, blank, user, extension)
    levels = [encode(original.format, pixels)]
    for size in sizes[1:]:
        pixels = level_of(blank, pixels, size)
        levels.append(encode(original.format, pixels))
    notes = (f"now {user.width} x {user.height}, it was {original.width} x {original.height}",)
    return TakenOver(blank.with_surfaces([levels]), user.width * user.height, 0, notes)


def _blank_edit(original: Picture, blank: Picture, user: Picture, extension: str) -> Pixels:
    """All pixels of a user's picture in the original's format."""
    if original.palette is not None:
        raise RefusedError("a picture with a palette keeps its size", "--resize")
    source = shown_pixels(user, user.pixels()) if user.palette is not None else user.pixels()
    own = ("rgba", FORMATS["rgba8"]) if user.palette is not None else (user.format.channels, user.format)
    return converted(source, own, replace(original.format, order="", fields=()), original.roles)
