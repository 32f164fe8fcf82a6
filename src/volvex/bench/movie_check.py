"""What is wrong with a changed movie, compared with the game's own."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.asset.movie.describe import differences
from volvex.bench.changes import FileChange
from volvex.bench.movies import may_be_movie, movie_at, movie_in
from volvex.bench.workbench import Workbench
from volvex.data.check import ERROR, WARNING, Problem
from volvex.errors import VolvexError


def movie_problems(bench: Workbench, change: FileChange) -> Iterator[Problem]:
    """The problems of one changed file, when it is a movie and stays one."""
    if change.what != "changed" or not may_be_movie(change.kind):
        return
    try:
        before = movie_at(bench, change.path)
    except VolvexError:
        return  # the game's own cannot be read: nothing can be compared
    if before is None:
        return
    try:
        after = movie_in(bench.files / change.source, change.path, bench)
    except VolvexError as error:
        yield _problem(ERROR, change, "file", error.message, error.hint or "saving it again")
        return
    if after is None:
        said = f"this is no movie, the game's own is {before.movie.form}"
        yield _problem(ERROR, change, "kind", said, "`volvex swap` with a clip, which converts it")
        return
    for said in differences(after.movie, before.movie):
        yield _problem(WARNING, change, "form", said, "`volvex swap` with your clip, which converts it")
    if after.movie.duration > before.movie.duration + float(1 / before.movie.rate):
        said = f"it lasts {after.movie.duration:.2f} s, the game's own {before.movie.duration:.2f} s"
        yield _problem(WARNING, change, "length", said, "`volvex swap` with --trim")


def _problem(level: str, change: FileChange, kind: str, message: str, hint: str) -> Problem:
    return Problem(level, f"movie {kind}", change.path, "", "", "", message, hint)
