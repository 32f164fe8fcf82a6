"""A user's clip in the place of the game's own movie, in its form; or one black frame of it; and which movies a game does without."""

from __future__ import annotations

import fnmatch
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from volvex.apart import apart
from volvex.archive.safe_names import quoted, shown
from volvex.asset.movie.describe import differences, short_text
from volvex.asset.movie.model import KINDS, Movie
from volvex.asset.movie.open import Opened, is_movie, open_movie
from volvex.bench.changes import FileChange
from volvex.bench.content import one_meant, original_kind, original_source
from volvex.bench.open_folder import replace_file
from volvex.bench.workbench import Workbench
from volvex.errors import RefusedError, UsageError, VolvexError
from volvex.source import BytesSource, FileSource


@dataclass(frozen=True)
class Asked:
    """How a clip is to become the game's: letterboxed or filling the frame, cut at the original's end, without sound."""

    scale: str = "fit"
    trim: bool = False
    mute: bool = False


@dataclass(frozen=True)
class Converted:
    """A clip in the form of the game's own: the bytes, what that form is, and what is to be said. `same`: nothing has to be encoded,
    and the clip is put in as it is."""

    data: bytes
    form: str
    notes: tuple[str, ...]
    same: bool = False


def movie_at(bench: Workbench, place: str, unknown: bool = False) -> Opened | None:
    """The game's own movie at a place; None when it is none. With `unknown` also one of a container that nothing here knows."""
    with original_source(bench, place) as source:
        return open_movie(source, bench.library, unknown)


def movie_in(file: Path, name: str, bench: Workbench, unknown: bool = False) -> Opened | None:
    """The movie in a file on disk; None when it is none."""
    with FileSource(file, name) as source:
        return open_movie(source, bench.library, unknown)


def converted_movie(
    bench: Workbench,
    path: str,
    clip: Path | None,
    asked: Asked,
    on_progress: Callable[[int], None] = lambda frames: None,
) -> Converted | None:
    """A user's clip in the form of the movie that it is to replace, or without one a black frame; None when one of them is no movie.

    RefusedError when nothing here encodes that form, and the clip's head is not like the original's.
    """
    from volvex.asset.movie import encode

    place = one_meant(bench, path)
    if place is None or (clip is not None and not clip.is_file()):
        return None  # reported where it is put there
    may_be = may_be_movie(original_kind(bench, place))  # cheap: most of what is swapped is no movie, and is not decoded
    user = movie_in(clip, clip.as_posix(), bench, True) if may_be and clip is not None else None
    found = movie_at(bench, place, True) if may_be and (clip is None or user is not None) else None
    if found is None:
        if clip is None:
            raise UsageError(f"{shown(place)} is no movie", "`volvex drop` to leave it out")
        return None
    like, bare = found.movie, found.form is not None
    if user is not None and clip is not None and asked == Asked() and not differences(user.movie, like):
        form = f"{like.form}: {short_text(user.movie)}"
        return Converted(b"", form, _longer(user.movie, like), True)
    muxer = encode.MUXERS.get(like.form, like.container.partition(",")[0])
    longest = like.duration if asked.trim else 0.0
    wanted = encode.Wanted(muxer, like, asked.scale, longest, asked.mute, bare)
    name = clip.as_posix() if clip is not None else place
    try:
        apart(name, encode.require_encoders, wanted)
    except RefusedError as error:
        other = differences(user.movie, like) if user is not None else []
        raise RefusedError("; ".join([error.message, *other]), error.hint) from error
    data, notes = apart(
        name, encode.encoded, user.place if user is not None else None, name, wanted, on_progress=on_progress
    )
    if found.form is not None:
        with original_source(bench, place) as source:
            data = found.form.written(source, data)
    made = open_movie(BytesSource(data, place), bench.library, True)
    assert made is not None
    return Converted(data, f"{like.form}: {short_text(made.movie)}", (*notes, *_longer(made.movie, like)))


def _longer(movie: Movie, like: Movie) -> tuple[str, ...]:
    """That a movie lasts longer than the game's own, by more than a frame."""
    if movie.duration <= like.duration + float(1 / like.rate):
        return ()
    return (f"it lasts {movie.duration:.2f} s, the game's own {like.duration:.2f} s: --trim cuts it there",)


def put_movie(bench: Workbench, path: str, clip: Path | None, converted: Converted) -> str:
    """Put a converted movie in the place of the game's own; where it went in the bench."""
    if converted.same and clip is not None:
        return bench.put(path, clip)
    place, _ = bench.open_for_edit(path)
    replace_file(bench, place, converted.data)
    return place


def require_droppable(bench: Workbench, place: str) -> str:
    """What is to be said when something is left out: nothing, or for a movie that the game may need it.

    RefusedError for a movie when the game's description lists those that it does without, and this is none of them.
    """
    optional = bench.game.description.optional
    if any(fnmatch.fnmatchcase(place, pattern) for pattern in optional) or bench.original_size(place) is None:
        return ""
    try:
        if not may_be_movie(original_kind(bench, place)) or movie_at(bench, place) is None:
            return ""
    except VolvexError:
        return ""
    if optional:
        raise RefusedError(
            f"{bench.game.description.name} does not start without {shown(place)}",
            f"`volvex swap {quoted(place)} --blank`, which puts a black frame there",
        )
    return (
        f"whether the game starts without {shown(place)} is not known: `volvex swap {quoted(place)} --blank` is safer"
    )


def movie_pair(bench: Workbench, change: FileChange) -> tuple[Movie, Movie] | None:
    """Both states of a changed movie; None when one is none, or damaged."""
    if not (is_movie(change.kind) or change.kind == "binary"):
        return None
    try:
        before = movie_at(bench, change.path)
        after = movie_in(bench.files / change.source, change.path, bench)
    except VolvexError:
        return None
    return (before.movie, after.movie) if before is not None and after is not None else None


def may_be_movie(kind: str) -> bool:
    """Whether files of a type are movies, or may be one of a game's own."""
    return kind in KINDS or kind == "binary"
