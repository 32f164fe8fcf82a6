"""A movie in words."""

from __future__ import annotations

from volvex.asset.movie.model import Audio, Movie
from volvex.asset.sound.describe import channels_text, duration_text


def picture_text(movie: Movie) -> str:
    """`320 x 180, 24 frames a second, vp8`."""
    return f"{movie.width} x {movie.height}, {float(movie.rate):g} frames a second, {movie.codec}"


def sound_text(audio: Audio) -> str:
    """`44,100 Hz, stereo, vorbis`."""
    return f"{audio.rate:,} Hz, {channels_text(audio.channels)}, {audio.codec}"


def short_text(movie: Movie) -> str:
    """In a list: `0:12.5, 320 x 180, 24 frames a second, vp8, vorbis`."""
    sounds = "".join(f", {one.codec}" for one in movie.audio)
    return f"{duration_text(movie.duration)}, {picture_text(movie)}{sounds}"


def differences(movie: Movie, like: Movie) -> list[str]:
    """What of a movie is not as another has it."""
    pairs = [
        ("its container is", movie.container, like.container),
        ("its pictures are encoded as", movie.codec, like.codec),
        ("its size is", f"{movie.width} x {movie.height}", f"{like.width} x {like.height}"),
        ("its frames a second are", f"{float(movie.rate):g}", f"{float(like.rate):g}"),
        ("its sounds are", _sounds(movie), _sounds(like)),
    ]
    return [f"{what} {has}, the game's own has {wanted}" for what, has, wanted in pairs if has != wanted]


def _sounds(movie: Movie) -> str:
    return "; ".join(sound_text(one) for one in movie.audio) or "none"
