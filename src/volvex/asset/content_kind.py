"""What the content of a file or an entry is: an open type, a form of models without a signature, or the kind of a
layout."""

from __future__ import annotations

import posixpath

from volvex.archive.archive import Archive
from volvex.archive.detect import filetypes
from volvex.archive.detect.types.models import UNSIGNED
from volvex.layout import Library
from volvex.source import BytesSource, Source

LOOKED_INTO = (*filetypes.TEXT, "binary")


def kind_in(source: Source, kind: str, library: Library) -> str:
    """The kind of bytes whose beginning is of `kind`: of text that is a model its form, of a format that no open one is
    that of the layout which reads them."""
    model = model_in(source, kind)
    kind = filetypes.kind_by_more(source.peek(0, filetypes.LATE), kind) if kind == "binary" else kind
    if model or kind != "binary":
        return model or kind
    layout = library.match_data(source) or library.match(source)
    return layout.kind if layout is not None else kind


def model_in(source: Source, kind: str) -> str:
    """The form of a model that has no signature, by its extension and its content: `obj`; \"\" when it is none."""
    if kind not in LOOKED_INTO or not may_be_unsigned_model(source.name):
        return ""
    from volvex.asset.model.open import open_form

    form = open_form(source, kind)
    return form.EXTENSIONS[0] if form is not None else ""


def entry_kind(archive: Archive, row: int, path: str, library: Library) -> str:
    """What an entry's content is; LockedError where a key is missing."""
    kind = archive.kind(row)
    model = kind in LOOKED_INTO and may_be_unsigned_model(path)
    size = filetypes.DETAIL if model else filetypes.LATE if kind == "binary" else 0
    head = archive.beginning(row, size) if size else b""
    return kind_in(BytesSource(head, path), kind, library) if head else kind


def may_be_unsigned_model(name: str) -> bool:
    """Whether a file may be a model of an open format without a signature, by its extension."""
    return posixpath.splitext(name)[1].lower().lstrip(".") in UNSIGNED
