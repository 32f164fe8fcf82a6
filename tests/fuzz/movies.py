"""Damaged movies, in open containers and in one of a game's own: probed, drawn, put into another container. What
decodes them may die, and take no one with it."""

from __future__ import annotations

import random
from collections.abc import Iterator
from pathlib import Path

from tests.fuzz.attempt import Attempt, mutate
from tests.test_movies import FORMS, LAYOUT, OwnContainer, clip
from volvex.asset.movie.open import open_movie
from volvex.asset.movie.own_layout import LayoutMovie
from volvex.errors import VolvexError
from volvex.layout.language.parser import parse_layout
from volvex.source import BytesSource

SECONDS = 130.0  # a decoder that hangs is stopped after two minutes


def cases(folder: Path, rng: random.Random, only: str) -> Iterator[Attempt]:
    """Files with some bytes changed."""
    samples = {f"{form}-{codec}": clip(form, codec, sound, rate, seconds=0.3) for form, codec, sound, rate in FORMS}
    samples |= {f"own-{codec}": OwnContainer().made(codec) for codec in ("mpeg1video", "mjpeg", "vp8")}
    chosen = [(name, data) for name, data in sorted(samples.items()) if name.startswith(only)]
    while True:
        name, data = rng.choice(chosen)
        made = mutate(rng, data)
        yield Attempt(f"{name.partition('-')[0]}: {name}", made, lambda name=name, data=made: exercise(name, data))  # type: ignore[misc]


def exercise(name: str, data: bytes) -> str | None:
    """All that can be done with a movie; what went wrong beyond our errors."""
    try:
        if name.startswith("own"):
            form = LayoutMovie(parse_layout(LAYOUT, "films.layout"))
            source = BytesSource(data, "film.kfm")
            data = form.as_open(source)
            form.written(source, data)
        found = open_movie(BytesSource(data, name), unknown=True)
        if found is not None:
            found.pictures(name, 3, 64, 64)
    except VolvexError as error:
        return None if error.lines()[0] else "an error without words"
    return None
