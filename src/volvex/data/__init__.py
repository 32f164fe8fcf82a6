"""The meaning of data files: tables, texts and scenes, whichever way they are stored.

Words: a *document* is a file of data, a *sheet* its records with the same fields, a *record* is found by its *id* and
has *fields*, a *cell* is one field of one record. A *change* is a difference by id and field. The rule that must hold:
what is read and written without a change is the same, byte for byte, and with one all that it does not concern.
"""

from __future__ import annotations

import importlib
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from volvex.data.model.sheet import Change, Column, Document, Sheet
    from volvex.data.open import open_data, require_data

__all__ = ["Change", "Column", "Document", "Sheet", "open_data", "require_data"]


def __getattr__(name: str) -> Any:
    """Import what is asked for: most commands look at archives, and need none of it."""
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    home = "volvex.data.open" if name.endswith("_data") else "volvex.data.model.sheet"
    return getattr(importlib.import_module(home), name)
