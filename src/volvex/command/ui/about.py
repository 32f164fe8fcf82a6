"""What a picture, a sound, a movie or a model is, as one line of a list, by its head."""

from __future__ import annotations

from volvex.archive import Archive, LayoutArchive, Walker
from volvex.archive.detect.types.models import MODELS
from volvex.command.ui.context import Context
from volvex.errors import FRESH, ContentError, FormatError
from volvex.source import Source

QUICK = ("wav", "ogg", "flac", "mp3")  # sounds of which the head will do


def about_text(source: Source, kind: str, walker: Walker, context: Context) -> str:
    """The size and format of a picture, the duration and format of a sound or movie, what a model has; FormatError when it is damaged.

    `kind`: what a list calls it, which is the kind of its layout where it is in a format of the game's own.
    """
    from volvex.asset.movie.open import is_movie
    from volvex.asset.sound.open import is_sound

    if kind == "sound" or is_sound(kind):
        return _sound_text(source, kind, walker)
    if kind == "movie" or is_movie(kind):
        from volvex.asset.movie.describe import short_text as movie_text
        from volvex.asset.movie.open import open_movie

        movie = open_movie(source, walker.library)
        return movie_text(movie.movie) if movie is not None else ""
    if kind in MODELS:
        from volvex.asset.model.describe import short_text as model_text
        from volvex.asset.model.open import open_model
        from volvex.command.ui.reader import finds_beside

        source.beside = finds_beside(source.name, walker, context)
        model = open_model(source, walker.library)
        return model_text(model.model) if model is not None else ""
    from volvex.asset.picture.describe import format_text, size_text
    from volvex.asset.picture.open import open_picture
    from volvex.command.ui.reader import finds_beside

    source.beside = finds_beside(source.name, walker, context)
    found = open_picture(source, walker.library)
    return f"{size_text(found.picture)}, {format_text(found.picture)}" if found is not None else ""


def _sound_text(source: Source, kind: str, walker: Walker) -> str:
    from volvex.asset.sound.describe import short_text
    from volvex.asset.sound.open import open_sound
    from volvex.codec.samples.heads import head_of

    try:
        head = head_of(source.peek, source.size) if kind in QUICK else None
    except ContentError as error:
        raise FormatError(source.name, error.message, hint=FRESH) from error
    if head is not None:
        return short_text(head)
    sound = open_sound(source, walker.library)
    return short_text(sound.sound) if sound is not None else ""


def banked_text(archive: Archive, row: int) -> str:
    """The duration and format of a sound of a bank, by its directory; empty for anything else."""
    head = archive.sound(row) if isinstance(archive, LayoutArchive) else None
    if head is None:
        return ""
    from volvex.asset.sound.describe import short_text

    return short_text(head)
