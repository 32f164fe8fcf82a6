"""Models: meshes, skeletons, animations and materials."""

from __future__ import annotations

from volvex.asset.kind import Proof
from volvex.layout import Library
from volvex.source import Source

NAME, PRIORITY = "model", 40


def proof(source: Source, library: Library) -> Proof | None:
    from volvex.asset.models.describe import short_text
    from volvex.asset.models.layout_model import LayoutModel
    from volvex.asset.models.model_proof import model_change_faults, model_hints
    from volvex.asset.models.open import form_in

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
