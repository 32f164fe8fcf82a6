"""The textures of a model as pictures: those of the game's files, and those inside of the model's own."""

from __future__ import annotations

from volvex.asset.model.gather import Files, Gathered
from volvex.asset.model.model import Array
from volvex.asset.model.render import Scene
from volvex.asset.picture.model import Picture
from volvex.errors import VolvexError
from volvex.source import BytesSource


def texture_of(found: Gathered, files: Files | None, name: str) -> Picture | None:
    """The picture that a texture of a model is, by its name; None when it is nowhere. FormatError when it is
    damaged."""
    number = found.textures.get(name)
    if number is not None and files is not None:
        return files.picture(number)
    inside = found.model.pictures.get(name)
    if inside is None:
        return None
    from volvex.asset.picture.open import open_picture

    opened = open_picture(BytesSource(inside, f"{found.model.name}: {name}"))
    return opened.picture if opened is not None else None


def scene_of(found: Gathered, files: Files | None, plain: bool = False) -> Scene:
    """A model with its textures (`plain`: without), to be drawn; those that cannot be read become notes."""
    textures = dict[int, Array]()
    pixels = dict[int | str, Array | None]()
    for at, material in enumerate(found.model.materials):
        name = material.textures.get("colour", "")
        if plain or not name:
            continue
        place = found.textures.get(name)
        key = name if place is None else place  # one file may go by several names
        try:
            if key not in pixels:
                picture = texture_of(found, files, name)
                pixels[key] = picture.seen() if picture is not None else None
        except VolvexError as error:
            found.notes.append(f"the texture {name}: {error.message}")
            pixels[key] = None
        seen = pixels[key]
        if seen is not None:
            textures[at] = seen
    return Scene(found.model, textures)
