"""What the entries of an archive are, to group and sort them: objects of a package by their type, all others by their
content."""

from __future__ import annotations

from volvex.archive.archive import Archive
from volvex.archive.detect import filetypes
from volvex.archive.detect.types.models import MODELS
from volvex.archive.detect.types.pictures import TYPES as PICTURES
from volvex.archive.detect.types.sounds import MOVIES, SOUNDS
from volvex.archive.layout_archive import LayoutArchive
from volvex.layout.kinds import archive as attributes
from volvex.layout.read.names import endings_of

KINDS = (
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


def kind_of(content: str) -> str:
    """To which of `KINDS` a type of content belongs."""
    return _OF.get(content, "other")


def is_package(archive: Archive) -> bool:
    """Whether the entries of an archive are objects with a type."""
    return isinstance(archive, LayoutArchive) and archive.reading.attribute(attributes.TYPE) is not None


def object_types(archive: Archive) -> list[str] | None:
    """The type of each object of a package; None for an archive whose entries have none."""
    if not isinstance(archive, LayoutArchive) or not is_package(archive):
        return None
    return endings_of(archive.reading)
