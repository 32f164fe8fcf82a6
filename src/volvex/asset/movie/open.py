"""Which movie some bytes are: of an open container, of the game's own by a layout, or of any other that can be
decoded."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from volvex.apart import apart
from volvex.archive.detect import filetypes
from volvex.asset.layout_of import own_layout
from volvex.asset.movie.model import KINDS, LARGEST, Movie, Place, place_of
from volvex.asset.movie.own_layout import LayoutMovie, described
from volvex.errors import RefusedError, UsageError, VolvexError
from volvex.layout import Library
from volvex.source import Source

LEAST = 1 << 16  # bytes of a file of unknown type for which that library is asked
MOVIE = "movie"  # the kind of layouts of movies


@dataclass(frozen=True)
class OpenedMovie:
    """A movie, and where the bytes are that can be decoded: its own, or those of the open container that it was put
    into.

    name     of its file, for errors
    form     of a game's own container, with the file's `stored` bytes and the layouts that read it
    """

    movie: Movie
    place: Place
    name: str
    form: LayoutMovie | None = None
    stored: bytes = b""
    library: Library | None = None

    def pictures(self, name: str, count: int, width: int, height: int) -> list[tuple[float, Any]]:
        """Some frames spread over it, each with its time: height x width x red, green, blue."""
        from volvex.asset.movie import work

        return apart(name, work.pictures, self.place, name, count, width, height)


def is_movie(kind: str) -> bool:
    """Whether a type of files is a movie in an open container."""
    return kind in KINDS


def form_in(source: Source, library: Library) -> LayoutMovie | None:
    """The form of the game's own movie in some bytes; None for anything else."""
    own = own_layout(source, MOVIE, library)
    return LayoutMovie(own) if own is not None else None


def open_movie(source: Source, library: Library | None = None, unknown: bool = False) -> OpenedMovie | None:
    """The movie in some bytes; None when they are none. FormatError when they are damaged.

    With `unknown` the library that decodes movies is asked of bytes of no known type, too.
    """
    from volvex.asset.movie import work

    kind = filetypes.kind_by_content(source.peek(0, filetypes.HEAD))
    form = form_in(source, library) if library is not None else None
    if form is not None:
        if source.size > LARGEST:
            raise RefusedError(
                f"{source.name} has {source.size:,} bytes, too many to hold in memory", "a smaller movie"
            )
        data = form.as_open(source)
        found = apart(source.name, work.probe, data, source.name)
        _, streams, _ = form.read(source)
        stored = source.read(0, source.size)
        return OpenedMovie(described(streams, found, form.layout.title), data, source.name, form, stored, library)
    if kind in KINDS:
        place = place_of(source)
        return OpenedMovie(replace(apart(source.name, work.probe, place, source.name), form=kind), place, source.name)
    if not unknown or kind != "binary" or source.size < LEAST:
        return None
    place = place_of(source)
    try:
        found = apart(source.name, work.probe, place, source.name)
    except VolvexError:
        return None
    still = found.codec in work.STILLS and found.frames <= 1
    if still or found.duration <= 0:
        return None
    return OpenedMovie(replace(found, form=found.container.partition(",")[0]), place, source.name)


def require_movie(source: Source, library: Library | None = None) -> OpenedMovie:
    """The same; UsageError when the bytes are no movie."""
    found = open_movie(source, library, True)
    if found is None:
        kind = filetypes.kind_by_content(source.peek(0, filetypes.HEAD))
        raise UsageError(f"{source.name} is no movie, but {kind}", "`volvex identify` for what it is")
    return found
