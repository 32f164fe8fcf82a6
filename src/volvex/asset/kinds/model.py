"""Models: meshes, skeletons, animations and materials."""

from __future__ import annotations

from volvex.asset.kind import Proof
from volvex.layout import Library
from volvex.source import Source

NAME, PRIORITY = "model", 40


def proof(source: Source, library: Library) -> Proof | None:
    from volvex.asset.model.describe import short_text
    from volvex.asset.model.open import form_in
    from volvex.asset.model.own_layout import LayoutModel
    from volvex.asset.model.proof import model_change_faults, model_hints

    form = form_in(source, library)
    if not isinstance(form, LayoutModel):
        return None
    model = form.read(source)
    return Proof(
        model.extra["reading"],
        f"{form.layout.kind}: {short_text(model)}",
        lambda: list(model_hints(model)),
        lambda: model_change_faults(form, model),
    )
