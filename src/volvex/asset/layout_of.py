"""The layout by which some bytes are a picture, sound, movie or model in a format of a game's own."""

from __future__ import annotations

from volvex.archive.detect import filetypes
from volvex.layout import Layout, Library
from volvex.source import Source


def own_layout(
    source: Source, kinds: str | tuple[str, ...], library: Library | None = None, layout: Layout | None = None
) -> Layout | None:
    """The given layout, or the library's for bytes of no open format; None when there is none, or it is of another
    kind."""
    wanted = (kinds,) if isinstance(kinds, str) else kinds
    if layout is not None:
        return layout if layout.kind in wanted else None
    if library is None or filetypes.kind_by_content(source.peek(0, filetypes.HEAD)) != "binary":
        return None
    found = library.match_data(source)
    return library.prepared(found, source.name) if found is not None and found.kind in wanted else None
