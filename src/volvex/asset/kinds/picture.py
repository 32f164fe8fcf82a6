"""Pictures and textures."""

from __future__ import annotations

from collections.abc import Iterator

from volvex.asset.kind import Proof
from volvex.layout import Library
from volvex.source import Source

NAME, PRIORITY = "picture", 10


def proof(source: Source, library: Library) -> Proof | None:
    from volvex.asset.picture.describe import (
        size_text,  # only here, as in the other kinds: what decodes takes a while to load
    )
    from volvex.asset.picture.open import form_in
    from volvex.asset.picture.own_layout import LayoutForm
    from volvex.asset.picture.proof import change_fault, picture_hints

    form = form_in(source, library)
    if not isinstance(form, LayoutForm):
        return None
    picture = form.read(source)

    def changes() -> Iterator[tuple[str, str]]:
        yield "a pixel of each level changed", change_fault(form, picture)

    levels = "1 level" if picture.levels == 1 else f"{picture.levels} levels"
    about = f"a picture of {size_text(picture)}, {levels}"
    return Proof(picture.extra["reading"], about, lambda: list(picture_hints(picture)), changes)
