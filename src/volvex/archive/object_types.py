"""What the entries of an archive are, to group and sort them: objects of a package by their type, all others by their content."""

from __future__ import annotations

from volvex.archive.archive import Archive
from volvex.archive.detect import filetypes
from volvex.archive.detect.types.models import MODELS
from volvex.archive.detect.types.pictures import TYPES as PICTURES
from volvex.archive.detect.types.sounds import MOVIES, SOUNDS
from volvex.archive.layout_archive import LayoutArchive
from volvex.layout import Library
from volvex.layout.kinds import archive as attributes
from volvex.layout.read.names import endings_of
from volvex.source import BytesSource, Source

SORTS = (
    "picture",
    "sound",
    "movie",
    "model",
    "table",
    "text",
    "archive",
    "other",
)  # in the order in which they are looked at
TABLES = ("table", "sheet", "scene", "font")
TEXTS = (*filetypes.TEXT, "mo", "bplist")
_OF: dict[str, str] = {
    **dict.fromkeys((*(kind.name for kind in PICTURES), "texture"), "picture"),
    **dict.fromkeys((*SOUNDS, "sound", "midi"), "sound"),
    **dict.fromkeys((*MOVIES, "movie"), "movie"),
    **dict.fromkeys(MODELS, "model"),
    **dict.fromkeys(TABLES, "table"),
    **dict.fromkeys(TEXTS, "text"),
    **dict.fromkeys(("archive", "zip", "tar", "gzip"), "archive"),
}


def sort_of(kind: str) -> str:
    """To which of `SORTS` a kind of content belongs."""
    return _OF.get(kind, "other")


def is_package(archive: Archive) -> bool:
    """Whether the entries of an archive are objects with a type."""
    return isinstance(archive, LayoutArchive) and archive.reading.attribute(attributes.TYPE) is not None


def object_types(archive: Archive) -> list[str] | None:
    """The type of each object of a package; None for an archive whose entries have none."""
    if not isinstance(archive, LayoutArchive) or not is_package(archive):
        return None
    return endings_of(archive.reading)


def kind_in(source: Source, kind: str, library: Library) -> str:
    """The kind of bytes: of a format that no open one is, that of the layout which reads them."""
    if kind != "binary":
        return kind
    layout = library.match_data(source) or library.match(source)
    return layout.kind if layout is not None else kind


def entry_kind(archive: Archive, row: int, path: str, library: Library) -> str:
    """What an entry's content is; LockedError where a key is missing."""
    kind = archive.kind(row)
    head = archive.beginning(row, filetypes.HEAD) if kind == "binary" else b""
    return kind_in(BytesSource(head, path), kind, library) if head else kind
