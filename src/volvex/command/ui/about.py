"""What a picture, a sound, a movie or a model is, as one line of a list, by its head."""

from __future__ import annotations

from volvex.archive import Archive, LayoutArchive, Walker
from volvex.command.ui.context import Context
from volvex.source import Source


def about_text(source: Source, kind: str, walker: Walker, context: Context) -> str:
    """The size and format of a picture, the duration and format of a sound or movie, what a model has; FormatError when
    it is damaged.

    `kind`: what a list calls it, which is the kind of its layout where it is in a format of the game's own.
    """
    from volvex.asset.kind import kind_of_type
    from volvex.command.ui.reader import finds_beside

    own = kind_of_type(kind)
    if own is None:
        own = kind_of_type("texture")
    assert own is not None
    source.beside = finds_beside(source.name, walker, context)
    return own.short(source, walker.library)


def banked_text(archive: Archive, row: int) -> str:
    """The duration and format of a sound of a bank, by its directory; empty for anything else."""
    head = archive.sound(row) if isinstance(archive, LayoutArchive) else None
    if head is None:
        return ""
    from volvex.asset.sound.describe import short_text

    return short_text(head)
