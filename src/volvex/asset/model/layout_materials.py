"""The materials of a game's own file: textures by role, colours, how they are seen through; and back."""

from __future__ import annotations

import numpy as np

from volvex.asset.model.layout_texts import (
    numbers_of,
    put_ints,
    put_texts,
    put_words,
    take_rows,
    texts_of,
    words_of,
)
from volvex.asset.model.model import OPAQUE, Array, Material
from volvex.asset.model.storage import fact_in, from_shares, kept_rows, shares
from volvex.errors import RefusedError
from volvex.layout.columns import AllColumns
from volvex.layout.kinds._model import ROLES
from volvex.layout.read.blocks import Reading

NUMBERS = {"alpha cutoff": "cutoff", "metalness": "metalness", "roughness": "roughness"}


def materials_of(reading: Reading) -> list[Material]:
    """The materials that a file has, in its order."""
    names = texts_of(reading, "material name")
    if names is None:
        return []
    made = [Material(name) for name in names]
    for role in ROLES:
        for material, text in zip(made, texts_of(reading, f"{role} texture") or (), strict=False):
            if text:
                material.textures[role] = text
    colours = _colours(reading)
    for material, row in zip(made, colours if colours is not None else (), strict=False):
        material.colour = (float(row[0]), float(row[1]), float(row[2]), float(row[3]))
    for material, word in zip(made, words_of(reading, "alpha mode") or (), strict=False):
        material.alpha = word
    sided = numbers_of(reading, "two sided")
    for material, number in zip(made, sided.tolist() if sided is not None else (), strict=False):
        material.two_sided = bool(number)
    for what, name in NUMBERS.items():
        fact = fact_in(reading, what)
        if fact is not None:
            for material, value in zip(made, shares(fact.raw(), fact.kind)[:, 0].tolist(), strict=False):
                setattr(material, name, float(np.nan_to_num(value)))
    return made


def _colours(reading: Reading) -> Array | None:
    fact = fact_in(reading, "material colour")
    if fact is None:
        return None
    raw = fact.raw()
    made = np.ones((len(raw), 4))
    made[:, list(fact.columns)] = np.clip(np.nan_to_num(shares(raw, fact.kind)), 0, 1)
    return made


# back


def put_materials(
    columns: AllColumns, reading: Reading, old: list[Material], new: list[Material], like: list[int]
) -> bool:
    """Put materials into columns; whether anything changed. `like`: for each new one the old one, or -1."""
    if new == old:
        return False
    found = reading.attribute("material name")
    if found is None:
        return False
    block = found[0].block
    if not block.repeats and len(new) != 1:
        raise RefusedError("a file of this format has one material", "a material file of its own")
    rows = np.array([one if one >= 0 else max(0, len(old) - 1) for one in like], np.int64)
    take_rows(columns, reading, block.name, rows)
    put_texts(columns, reading, "material name", [one.name for one in new])
    for role in ROLES:
        before = texts_of(reading, f"{role} texture")
        texts = [one.textures.get(role, "") for one in new]
        if before is not None and texts != before:
            put_texts(columns, reading, f"{role} texture", texts)
        elif before is None and any(texts):
            name = next(one.name for one in new if role in one.textures)
            raise RefusedError(f"this format gives materials no {role} texture, {name} has one", "leaving it out")
    _put_numbers(columns, reading, old, new, like)
    put_words(columns, reading, "alpha mode", [one.alpha for one in new])
    if (sided := numbers_of(reading, "two sided")) is not None:
        numbers = [
            int(sided[place]) if place >= 0 and bool(sided[place]) == one.two_sided else int(one.two_sided)
            for one, place in zip(new, like, strict=True)
        ]
        put_ints(columns, reading, "two sided", numbers)
    if reading.attribute("alpha mode") is None and any(
        one.alpha != (old[place].alpha if place >= 0 else OPAQUE) for one, place in zip(new, like, strict=True)
    ):
        raise RefusedError("this format has no alpha modes of materials", "the alpha mode of the original")
    return True


def _put_numbers(
    columns: AllColumns, reading: Reading, old: list[Material], new: list[Material], like: list[int]
) -> None:
    own = np.array(like)
    fact = fact_in(reading, "material colour")
    if fact is not None:
        which = list(fact.columns)
        before, after = (np.array([one.colour for one in of])[:, which] for of in (old, new))
        made, again = (from_shares(values, fact.kind) for values in (after, before))
        fact.put(columns[fact.block.block.name], kept_rows(fact.raw(), before, after, made, own, again))
    for what, name in NUMBERS.items():
        fact = fact_in(reading, what)
        if fact is not None:
            before, after = (np.array([[getattr(one, name)] for one in of]) for of in (old, new))
            made, again = (from_shares(values, fact.kind) for values in (after, before))
            fact.put(columns[fact.block.block.name], kept_rows(fact.raw(), before, after, made, own, again))
