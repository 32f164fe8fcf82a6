"""Movies in the terminal: what they are, and a strip of their frames."""

from __future__ import annotations

from typing import TYPE_CHECKING

from volvex.archive.safe_names import shown
from volvex.command.ui.context import Context
from volvex.command.ui.table import number

if TYPE_CHECKING:
    from volvex.asset.movie.open import Opened

STRIP = 5  # frames side by side
WIDEST = 160  # pixels of a frame of the strip


def show_movie(opened: Opened, path: str, size: int, context: Context) -> None:
    """What there is to say about a movie, and on a terminal some of its frames."""
    from volvex.asset.movie.describe import picture_text, sound_text
    from volvex.asset.sound.describe import duration_text

    movie = opened.movie
    context.print(f"{context.paint(shown(path), 'bold')}  {movie.form}, {number(size)} bytes")
    context.print(f"  duration  {duration_text(movie.duration)}, {number(movie.frames)} frames")
    context.print(f"  pictures  {picture_text(movie)}, {movie.pixels}")
    for audio in movie.audio:
        context.print(f"  sound     {sound_text(audio)}")
    if not movie.audio:
        context.print("  sound     none")
    for note in movie.notes:
        context.print(f"  note      {shown(note)}")
    if context.terminal:
        _draw(opened, path, context)


def _draw(opened: Opened, path: str, context: Context) -> None:
    """Frames side by side, each with its time below."""
    import numpy as np

    from volvex.asset.sound.describe import duration_text
    from volvex.command.ui.picture import draw

    found = opened.pictures(path, STRIP, WIDEST, WIDEST)
    high = max(array.shape[0] for _, array in found)
    gap = np.zeros((high, 4, 4), np.uint8)
    parts = []
    for _, array in found:
        rgba = np.full((high, array.shape[1], 4), 255, np.uint8)
        rgba[: array.shape[0], :, :3] = array
        parts += [rgba, gap]
    draw(np.concatenate(parts[:-1], axis=1), 0, context)
    step = context.width // max(1, len(found))
    context.print(context.paint("".join(duration_text(time).ljust(step) for time, _ in found).rstrip(), "dim"))
