"""What is wrong with a changed movie, compared with the game's own."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.asset.kind import Fault
from volvex.asset.movie.describe import differences
from volvex.asset.movie.model import Movie


def faults_between(before: Movie, after: Movie) -> Iterator[Fault]:
    """What may be wrong with a changed movie: other codecs, size, rate; longer than the game's own by more than a
    frame."""
    for said in differences(after, before):
        yield Fault("warning", "form", said, "`volvex swap` with your clip, which converts it")
    if after.duration > before.duration + float(1 / before.rate):
        said = f"it lasts {after.duration:.2f} s, the game's own {before.duration:.2f} s"
        yield Fault("warning", "length", said, "`volvex swap` with --trim")
