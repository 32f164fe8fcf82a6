"""What a picture or a sound is, as one line of a list, by its head."""

from __future__ import annotations

from volvex.archive import Walker
from volvex.archive.detect import filetypes
from volvex.command.ui.context import Context
from volvex.source import Source


def about_text(source: Source, walker: Walker, context: Context) -> str:
    """The size and format of a picture in a format of the game's own, the duration and format of a sound or
    movie; FormatError when it is damaged."""
    from volvex.asset.movies.open import is_movie
    from volvex.asset.sounds.open import is_sound, open_sound

    kind = filetypes.kind_by_content(source.peek(0, filetypes.HEAD))
    layout = walker.library.match_data(source) if kind == "binary" else None
    if is_sound(kind) or (layout is not None and layout.kind == "sound"):
        from volvex.asset.sounds.describe import short_text

        sound = open_sound(source, walker.library)
        return short_text(sound.sound) if sound is not None else ""
    if is_movie(kind) or (layout is not None and layout.kind == "movie"):
        from volvex.asset.movies.describe import short_text as movie_text
        from volvex.asset.movies.open import open_movie

        movie = open_movie(source, walker.library)
        return movie_text(movie.movie) if movie is not None else ""
    from volvex.asset.describe import format_text, size_text
    from volvex.asset.open import open_picture
    from volvex.command.ui.reader import finds_beside

    source.beside = finds_beside(source.name, walker, context)
    found = open_picture(source, walker.library)
    return f"{size_text(found.picture)}, {format_text(found.picture)}" if found is not None else ""
