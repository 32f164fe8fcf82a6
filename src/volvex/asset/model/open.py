"""Which model some bytes are: of an open form by their type or text, of the game's own by a layout."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import numpy as np

from volvex.archive.detect import filetypes
from volvex.archive.detect.types.models import LAID_OUT
from volvex.asset.layout_of import own_layout
from volvex.asset.model.formats import FORMS, HEAD, ModelFormat, by_kind
from volvex.asset.model.model import LARGEST, Model, Skeleton
from volvex.errors import FormatError, UsageError
from volvex.layout import Layout, Library
from volvex.source import Source

KINDS = LAID_OUT  # of layouts whose files are models or parts of them
TEXTS = (*filetypes.TEXT, "binary")  # types under which forms without a signature go


class Own(Protocol):
    """What reads and writes files of one layout."""

    layout: Layout

    def read(self, source: Source, skeleton: Skeleton | None = None) -> Model: ...

    def write(self, model: Model) -> bytes: ...


@dataclass(frozen=True)
class OpenedModel:
    """A model, and what writes it again: an open form, or that of a layout."""

    model: Model
    form: ModelFormat | None
    own: Own | None = None

    def written(self, model: Model) -> bytes:
        """The file with another model in it: that of an open form, or of the layout."""
        if self.own is not None:
            with np.errstate(all="ignore"):  # what no format can hold is refused
                return self.own.write(model)
        assert self.form is not None
        return next(iter(self.form.write(model, {}).values()))

    @property
    def kind(self) -> str:
        """The kind of the layout that reads it; `mesh` for open forms."""
        return self.own.layout.kind if self.own is not None else "mesh"


def may_be_model(kind: str) -> bool:
    """Whether files of a type are models, or may be."""
    return kind in by_kind() or kind in TEXTS


def open_form(source: Source, kind: str = "") -> ModelFormat | None:
    """The open form of the model in some bytes; None when they are none."""
    kind = kind or filetypes.kind_by_content(source.peek(0, filetypes.HEAD))
    if kind in by_kind():
        return by_kind()[kind]
    if kind not in TEXTS:
        return None
    head = source.peek(0, HEAD)
    return next((form for form in FORMS.all() if form.fits(head, source.name)), None)


def form_in(source: Source, library: Library | None = None, layout: Layout | None = None) -> ModelFormat | Own | None:
    """The form of the model in some bytes; None when they are none."""
    from volvex.asset.model.own_layout import LayoutModel

    kind = filetypes.kind_by_content(source.peek(0, filetypes.HEAD)) if layout is None else ""
    if kind == "binary" or layout is not None:
        own = own_layout(source, KINDS, library, layout)
        if own is not None:
            return LayoutModel(own)
    return open_form(source, kind) if kind else None


def open_model(
    source: Source, library: Library | None = None, layout: Layout | None = None, skeleton: Skeleton | None = None
) -> OpenedModel | None:
    """The model in some bytes; None when they are none. FormatError when they are damaged."""
    from volvex.asset.model.own_layout import LayoutModel

    form = form_in(source, library, layout)
    if form is None:
        return None
    if source.size > LARGEST:
        raise FormatError(source.name, f"{source.size:,} bytes, more than any model has", hint="a smaller model")
    with np.errstate(all="ignore"):  # what is no number is refused where it is read
        if isinstance(form, LayoutModel):
            return OpenedModel(form.read(source, skeleton), None, form)
        return OpenedModel(form.read(source), form)  # type: ignore[arg-type]


def require_model(source: Source, library: Library | None = None, layout: Layout | None = None) -> OpenedModel:
    """The same; UsageError when the bytes are no model."""
    found = open_model(source, library, layout)
    if found is None:
        kind = filetypes.kind_by_content(source.peek(0, filetypes.HEAD))
        raise UsageError(f"{source.name} is no model, but {kind}", "`volvex identify` for what it is")
    return found
