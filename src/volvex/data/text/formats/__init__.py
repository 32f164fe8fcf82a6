"""Forms of data that no layout is needed for: one file each.

KINDS       kinds of file (by their content) that may be of this form
knows(data, kind, name) whether these bytes are of this form
open(data, file, encoding)  the document
"""

from __future__ import annotations

from pathlib import Path
from typing import Protocol

from volvex.data.text.document import UTF8, Encoding, TextData
from volvex.registry import Registry


class Form(Protocol):
    PRIORITY: int

    def knows(self, data: bytes, kind: str, name: str) -> bool: ...

    def open(self, data: bytes, file: str, encoding: Encoding = UTF8) -> TextData: ...


FORMS: Registry[Form] = Registry("data_format", __name__, Path(__file__).parent, needs=("PRIORITY", "knows", "open"))


def form_of(data: bytes, kind: str, name: str) -> Form | None:
    """The form of some bytes: `kind` is what their beginning looks like, `name` what the file is called."""
    return next((form for form in FORMS.all() if form.knows(data, kind, name)), None)
