"""Content that is hard to find: locked, behind the executable, cut into pieces, archives within archives, in volumes.

post/winter.kpz       a ZIP archive with a password, under the game's own ending
kelpwick.exe          the executable: resources, and a ZIP archive at its tail
deeps/deeps.kwp.001   a pack cut into pieces of 4096 bytes, because the makers' floppies held no more
vault/harbour.kvx     a TAR archive behind a repeating key, in it a ZIP archive, in that a pack
peal/peal.kpi         an index, and the bells it leads to in volumes peal_00.kpd, peal_01.kpd
loft/loft.kwa         hashes in place of names
lockers/lockers.kwn   numbers in place of names
speech/speech.kwl     one path in several languages
shallows/firth.kwz    no signature, and names that repeat
canvas/*.kwi          pictures in a format of the game's own
birds/*.kwi           sheets of frames, with their lists
signs/pennant.kwf     a font of glyphs on a page
catches/quay.kwc      a ledger that describes its own columns
belfry/*.kbl, ...     bells, a shanty and a bank of voices
opening/*             movies in an open container, and in one of the game's own
slip/*                boats and the lighthouse as models
"""

from __future__ import annotations

import random
from collections.abc import Mapping
from pathlib import Path

from kelpwick import GameError, slip
from kelpwick.holds import (
    belfry,
    birds,
    canvas,
    catches,
    deeps,
    engine,
    harbour,
    lockers,
    loft,
    opening,
    peal,
    post,
    shallows,
    signs,
    speech,
)

HOLDS = {
    "post": post,
    "engine": engine,
    "deeps": deeps,
    "harbour": harbour,
    "peal": peal,
    "loft": loft,
    "lockers": lockers,
    "speech": speech,
    "shallows": shallows,
    "canvas": canvas,
    "birds": birds,
    "signs": signs,
    "catches": catches,
    "belfry": belfry,
    "opening": opening,
    "slip": slip,
}


def make(folder: Path, seed: int) -> None:
    """Write all of them into the game's folder."""
    for name, hold in HOLDS.items():
        hold.write(folder, random.Random(f"{seed} {name}"))


def read(folder: Path, name: str) -> Mapping[str, bytes]:
    """The content of one of them; GameError when anything in it is not as it must be."""
    try:
        found: Mapping[str, bytes] = HOLDS[name].read(folder)
        return found
    except FileNotFoundError as error:
        raise GameError(f"{Path(error.filename).name} is missing") from error
