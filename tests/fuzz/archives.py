"""Damaged archives: one of each format that the tests know, opened, read, proved, changed."""

from __future__ import annotations

import random
from collections.abc import Iterator
from pathlib import Path

from kelpwick.world import make_game
from tests.families import FAMILIES
from tests.formats import FORMATS, SAMPLES
from tests.fuzz.attempt import Attempt, mutate
from tests.more_families import MORE
from tests.support import pack_layout
from tests.test_bad_archives import exercise
from tests.test_open_formats import look, open_samples
from tests.trial_families import TRIAL
from volvex.layout.language.parser import parse_layout
from volvex.layout.model import Layout


def corpus(folder: Path) -> list[tuple[str, Layout | None, bytes]]:
    """An archive of each format, and the game's own; open formats have a driver in place of a layout."""
    found: list[tuple[str, Layout | None, bytes]] = [
        (name, parse_layout(text, name), make(SAMPLES)) for name, (text, make) in sorted(FORMATS.items())
    ]
    found += [
        (name, parse_layout(family.layout, name), family.make(family.files))
        for name, family in sorted({**FAMILIES, **MORE, **TRIAL}.items())
    ]
    if not (folder / "game" / "data" / "main.kwp").exists():
        make_game(folder / "game")
    found += [(name, None, data) for name, data in open_samples().items()]
    found.append(("executable", None, (folder / "game" / "kelpwick.exe").read_bytes()))
    return [*found, ("kelpwick", pack_layout(), (folder / "game" / "data" / "main.kwp").read_bytes())]


def cases(folder: Path, rng: random.Random, only: str) -> Iterator[Attempt]:
    """Archives with some bytes changed."""
    samples = [one for one in corpus(folder) if one[0].startswith(only)]
    while True:
        name, layout, data = rng.choice(samples)
        mutated = mutate(rng, data)

        def run(layout: Layout | None = layout, mutated: bytes = mutated) -> None:
            if layout is not None:
                exercise(layout, mutated)
            else:
                look(mutated)

        yield Attempt(name, mutated, run)
