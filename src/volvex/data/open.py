"""Opening data: by a layout whose marks it bears, or as one of the open forms."""

from __future__ import annotations

from volvex.archive.detect import filetypes
from volvex.data.model.binary_plist import BEGIN, BinaryPlist
from volvex.data.model.catalogue import MARKS, Catalogue
from volvex.data.model.layout_document import LayoutDocument
from volvex.data.model.scene import SceneData
from volvex.data.model.sheet import Document
from volvex.data.text.document import Encoding
from volvex.data.text.formats import form_of
from volvex.errors import UsageError
from volvex.layout import Layout, Library
from volvex.source import BytesSource

NO_DATA = (
    "texture",
    "sound",
    "movie",
    "mesh",
    "skeleton",
    "animation",
    "material",
)  # kinds of layouts of which files have no values to edit


def open_data(
    data: bytes, library: Library, file: str, layout: Layout | None = None, encoding: Encoding | None = None
) -> Document | None:
    """The data in some bytes; None when nothing knows them as such. FormatError when they are damaged."""
    source = BytesSource(data, file)  # a file that is only looked into is not read whole for this
    known = layout if layout is not None else library.match_data(source)
    if known is not None and known.kind in NO_DATA:
        return None
    if known is not None:
        if not isinstance(data, bytes):
            source = BytesSource(bytes(data), file)
        kind = SceneData if known.kind == "scene" else LayoutDocument
        return kind(library.prepared(known, file), source, library.names)
    if bytes(data[: len(BEGIN)]) == BEGIN:
        return BinaryPlist(bytes(data), file)
    if bytes(data[:4]) in MARKS:
        return Catalogue(bytes(data), file)
    kind_told = filetypes.kind_of_data(bytes(data[: filetypes.HEAD]))
    form = form_of(data, kind_told, file.rpartition("/")[2]) if kind_told in filetypes.TEXT else None
    if form is None:
        return None
    return form.open(data, file, encoding if encoding is not None else Encoding(*library.encoded(file)))


def require_data(data: bytes, library: Library, file: str, layout: Layout | None = None) -> Document:
    """The document in some bytes; UsageError when their format is unknown."""
    found = open_data(data, library, file, layout)
    if found is None:
        kind = filetypes.kind_of_data(bytes(data[: filetypes.HEAD]))
        raise UsageError(
            f"{file} is {kind}; values are known in tables, texts and scenes that a layout reads, XML, JSON, CSV, "
            f"INI files and property lists",
            "a layout for it, or `volvex swap`",
        )
    return found
