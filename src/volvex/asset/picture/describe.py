"""A picture in words: its size, how it is stored, what its channels mean."""

from __future__ import annotations

from volvex.asset.picture.model import LINEAR, SRGB, Picture

SPACES = {SRGB: "sRGB", LINEAR: "linear"}


def size_text(picture: Picture) -> str:
    """Its size: `256 x 128`, `64 x 64 x 32`, `512 x 512, 6 faces`."""
    text = f"{picture.width} x {picture.height}" + (f" x {picture.depth}" if picture.depth > 1 else "")
    text += f", {picture.layers} layers" if picture.layers > 1 else ""
    return text + (f", {picture.faces} faces" if picture.faces > 1 else "")


def format_text(picture: Picture) -> str:
    """How it is stored: `bc3, 9 levels, sRGB`."""
    parts = [picture.format.name, f"{picture.levels} level{'s' if picture.levels != 1 else ''}"]
    if picture.palette is not None:
        parts.append(f"{len(picture.palette)} colours")
    if picture.colour_space:
        parts.append(SPACES[picture.colour_space])
    return ", ".join([*parts, *(["premultiplied alpha"] if picture.premultiplied else [])])


def channels_text(picture: Picture) -> str:
    """What its channels are: `red, green, blue (colour), alpha (gloss)`, with `a guess` where no description gives
    it."""
    names = {"r": "red", "g": "green", "b": "blue", "a": "alpha", "l": "grey", "i": "palette"}
    channels = [names[channel] for channel in picture.format.channels]
    roles = picture.roles
    colours = [name for name in channels if name != "alpha"]
    parts = [f"{', '.join(colours)} ({roles.colour})"] if colours else []
    if "alpha" in channels or picture.alpha:
        parts.append(f"alpha ({roles.alpha})" if roles.alpha != "alpha" else "alpha")
    return ", ".join(parts) + ("; a guess by the name" if roles.guessed and roles.colour != "colour" else "")


def files_text(picture: Picture) -> str:
    """Which levels lie in files beside the picture's own: `level 0 in sail.tex.1, level 1 in sail.tex.2`; empty for
    none."""
    stored = picture.extra.get("stored")
    found: dict[str, list[int]] = {}
    for span in stored.spans if stored is not None else ():
        if span.file and span.level not in found.setdefault(span.file, []):
            found[span.file].append(span.level)
    return ", ".join(
        f"level{'s' if len(levels) > 1 else ''} {' and '.join(map(str, levels))} in {name}"
        for name, levels in found.items()
    )
