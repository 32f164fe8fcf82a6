"""Movies out and back: their sound as a file, and a user's clip in the form of the game's own; or one black frame of
it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from volvex.apart import apart
from volvex.asset.kind import Exported, Result
from volvex.asset.movie.describe import differences, short_text
from volvex.asset.movie.model import Movie
from volvex.asset.movie.open import OpenedMovie, open_movie
from volvex.errors import NotFoundError, RefusedError
from volvex.source import BytesSource

SAME_CODECS = ("vorbis", "opus", "mp3")  # of a movie's sound, which sound files have too


@dataclass(frozen=True)
class Asked:
    """How a clip is to become the game's: letterboxed or filling the frame, cut at the original's end, without
    sound."""

    scale: str = "fit"
    trim: bool = False
    mute: bool = False


def exported(opened: OpenedMovie, extension: str) -> Exported:
    """The sound of a movie as a file; a movie of the game's own as it is, in an open container. NotFoundError where it
    has no sound."""
    from volvex.asset.movie import work
    from volvex.asset.sound.exchange import exported as exported_sound
    from volvex.asset.sound.formats import form_of
    from volvex.asset.sound.model import Sound

    if extension.lower().lstrip(".") == "mkv" and opened.form is not None and isinstance(opened.place, bytes):
        return Exported({"": opened.place}, opened.movie.notes)
    form_of(extension)
    if not opened.movie.audio:
        raise NotFoundError(f"{opened.name} has no sound", "`volvex picture` for its frames")
    rate, samples = apart(opened.name, work.sound_of, opened.place, opened.name)
    first = opened.movie.audio[0]
    encoding = first.codec if first.codec in SAME_CODECS else "float32" if "f" in first.sample else "pcm16"
    sound = Sound(rate, samples.shape[1], len(samples), encoding, 0, "f4", lambda: samples)
    data, notes = exported_sound(sound, extension)
    return Exported({"": data}, notes)


def replaced(own: OpenedMovie, user: OpenedMovie | None, asked: Asked, on_progress: Callable[[int], None]) -> Result:
    """A user's clip in the form of the movie that it is to replace, or without one a black frame.

    RefusedError when nothing here encodes that form, and the clip's head is not like the original's.
    """
    from volvex.asset.movie import encode

    like = own.movie
    if user is not None and asked == Asked() and not differences(user.movie, like):
        form = f"{like.form}: {short_text(user.movie)}"
        return Result({}, notes=_longer(user.movie, like), form=form, as_is=True)
    muxer = encode.MUXERS.get(like.form, like.container.partition(",")[0])
    longest = like.duration if asked.trim else 0.0
    wanted = encode.Wanted(muxer, like, asked.scale, longest, asked.mute, own.form is not None)
    name = user.name if user is not None else own.name
    try:
        apart(name, encode.require_encoders, wanted)
    except RefusedError as error:
        other = differences(user.movie, like) if user is not None else []
        raise RefusedError("; ".join([error.message, *other]), error.hint) from error
    place = user.place if user is not None else None
    data, notes = apart(name, encode.encoded, place, name, wanted, on_progress=on_progress)
    if own.form is not None:
        data = own.form.written(BytesSource(own.stored, own.name), data)
    made = open_movie(BytesSource(data, own.name), own.library, True)
    assert made is not None
    return Result(
        {"": data},
        notes=(*notes, *_longer(made.movie, like)),
        form=f"{like.form}: {short_text(made.movie)}",
    )


def _longer(movie: Movie, like: Movie) -> tuple[str, ...]:
    """That a movie lasts longer than the game's own, by more than a frame."""
    if movie.duration <= like.duration + float(1 / like.rate):
        return ()
    return (f"it lasts {movie.duration:.2f} s, the game's own {like.duration:.2f} s: --trim cuts it there",)
