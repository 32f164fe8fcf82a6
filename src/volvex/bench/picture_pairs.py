"""A changed picture as it was and as it is."""

from __future__ import annotations

from volvex.asset.picture.model import Picture
from volvex.bench.changes import FileChange
from volvex.bench.content import current_of, original_of
from volvex.bench.picture_files import picture_at, picture_in
from volvex.bench.workbench import Workbench
from volvex.errors import VolvexError


def pair_of(bench: Workbench, change: FileChange) -> tuple[Picture, Picture] | None:
    """Both states of a picture; None when one is no picture, or damaged."""
    try:
        before = picture_at(bench, change.path, original_of(bench))
        after = picture_in(bench, change.path, (bench.files / change.source).read_bytes(), current_of(bench))
    except VolvexError:
        return None
    return (before.picture, after.picture) if before is not None and after is not None else None
