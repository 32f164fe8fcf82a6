"""A changed picture as it was and as it is."""

from __future__ import annotations

from volvex.asset.open import open_picture
from volvex.asset.picture import Picture
from volvex.bench.changes import FileChange
from volvex.bench.workbench import Workbench
from volvex.errors import VolvexError
from volvex.source import BytesSource


def pair_of(bench: Workbench, change: FileChange) -> tuple[Picture, Picture] | None:
    """Both states of a picture; None when one is no picture, or damaged."""
    states = (b"".join(bench.original_content(change.path)), (bench.files / change.source).read_bytes())
    try:
        found = [open_picture(BytesSource(data, change.path), bench.library) for data in states]
    except VolvexError:
        return None
    before, after = found
    return (before.picture, after.picture) if before is not None and after is not None else None
