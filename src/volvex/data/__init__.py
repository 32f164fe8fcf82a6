"""The meaning of data files: tables, texts and scenes, whichever way they are stored.

Words: a *document* is a file of data, a *sheet* the records of one sort in it, a *record* is found by its *key* and has
*fields*, a *cell* is one field of one record. A *change* is a difference by key and field. The rule that must hold: what is
read and written without a change is the same, byte for byte, and with one all that it does not concern.
"""

from volvex.data.model.sheet import Change, Column, Document, Sheet
from volvex.data.open import open_data, require_data

__all__ = ["Change", "Column", "Document", "Sheet", "open_data", "require_data"]
