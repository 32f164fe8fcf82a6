"""Pictures, sounds, movies and models of a game's own formats at a path, with the forms that write them."""

from __future__ import annotations

from typing import TYPE_CHECKING

from volvex.archive import Walker
from volvex.command.ui.context import Context
from volvex.errors import VolvexError
from volvex.source import BytesSource

if TYPE_CHECKING:
    from volvex.asset.layout_picture import LayoutForm
    from volvex.asset.models.layout_model import LayoutModel
    from volvex.asset.models.model import Model
    from volvex.asset.movies.layout_movie import LayoutMovie
    from volvex.asset.picture import Picture
    from volvex.asset.sounds.layout_sound import LayoutSound
    from volvex.asset.sounds.sound import Sound


def own_picture(path: str, walker: Walker, context: Context) -> tuple[LayoutForm, Picture] | None:
    """The picture of a game's own format at a path, with the form that writes it; None for anything else."""
    from volvex.asset.layout_picture import LayoutForm
    from volvex.asset.open import form_in

    source = _bytes_at(path, walker, context)
    form = form_in(source, walker.library) if source is not None else None
    return (form, form.read(source)) if source is not None and isinstance(form, LayoutForm) else None


def own_sound(path: str, walker: Walker, context: Context) -> tuple[LayoutSound, Sound] | None:
    """The same for a sound."""
    from volvex.asset.sounds.layout_sound import LayoutSound
    from volvex.asset.sounds.open import form_in

    source = _bytes_at(path, walker, context)
    form = form_in(source, walker.library) if source is not None else None
    return (form, form.read(source)) if source is not None and isinstance(form, LayoutSound) else None


def own_movie(path: str, walker: Walker, context: Context) -> tuple[LayoutMovie, BytesSource] | None:
    """The same for a movie, with its bytes."""
    from volvex.asset.movies.open import form_in

    source = _bytes_at(path, walker, context)
    form = form_in(source, walker.library) if source is not None else None
    return (form, source) if source is not None and form is not None else None


def own_model(path: str, walker: Walker, context: Context) -> tuple[LayoutModel, Model] | None:
    """The same for a model, or a part of one; animations with the skeleton that they name."""
    from volvex.asset.models.layout_model import LayoutModel
    from volvex.asset.models.open import form_in

    source = _bytes_at(path, walker, context)
    form = form_in(source, walker.library) if source is not None else None
    return (form, form.read(source)) if source is not None and isinstance(form, LayoutModel) else None


def _bytes_at(path: str, walker: Walker, context: Context) -> BytesSource | None:
    """What is at a path, if it is in a format of a game's own; None when nothing is."""
    from volvex.archive.detect import filetypes
    from volvex.command.ui.reader import content_at

    try:
        content = content_at(path, walker, context)
    except VolvexError:
        return None
    try:
        if filetypes.kind_by_content(content.source.peek(0, filetypes.HEAD)) != "binary":
            return None
        own = BytesSource(content.source.read(0, content.source.size), content.path)
        own.beside = content.source.beside
    finally:
        content.source.close()
    return own
