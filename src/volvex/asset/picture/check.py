"""What is wrong with a changed picture, compared with the game's own: size, format, levels, channels."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.asset.kind import Fault
from volvex.asset.picture.model import Picture


def faults_between(old: Picture, new: Picture) -> Iterator[Fault]:
    """What may be wrong with a changed picture."""
    whole = f"a picture of {old.width} x {old.height}, or `volvex swap` with --resize"
    if (old.width, old.height) != (new.width, new.height):
        said = f"it has {new.width} x {new.height} pixels, the game's own has {old.width} x {old.height}"
        wide, high = new.format.block
        if (new.width % wide or new.height % high) and not (old.width % wide or old.height % high):
            yield Fault("error", "size", f"{said}: no multiples of {wide}, as blocks are", whole)
        elif _is_power(old) and not _is_power(new):
            level = "error" if old.levels > 1 else "warning"
            yield Fault(level, "size", f"{said}: no powers of two, as the game's own are", whole)
        else:
            yield Fault("warning", "size", said, whole)
    if old.form == new.form and old.format != new.format:
        said = f"its pixels are {new.format}, the game's own are {old.format}"
        yield Fault("warning", "format", said, "`volvex swap` with the picture as PNG, which converts it")
    if old.levels > 1 and new.levels == 1:
        said = f"it has no smaller levels, the game's own has {old.levels}"
        yield Fault("warning", "levels", said, "`volvex swap` with the picture as PNG, which makes them")
    elif old.levels != new.levels and (old.width, old.height) == (new.width, new.height):
        yield Fault("warning", "levels", f"it has {new.levels} levels, the game's own has {old.levels}", "as many")
    if old.alpha and not new.alpha:
        role = "" if old.roles.alpha == "alpha" else f", which is {old.roles.alpha}"
        yield Fault("warning", "alpha", f"the alpha channel is gone{role}", "saving it with alpha")
    if (old.images, old.depth) != (new.images, new.depth):
        said = f"it has {new.images} faces or layers, {new.depth} deep; the game's own {old.images}, {old.depth} deep"
        yield Fault("error", "faces", said, "as many")


def _is_power(picture: Picture) -> bool:
    return not (picture.width & (picture.width - 1) or picture.height & (picture.height - 1))
