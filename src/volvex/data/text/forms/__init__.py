"""Forms of data that no layout is needed for: one file each.

KINDS       kinds of file (by their content) that may be of this form
knows(data, kind, name) whether these bytes are of this form
open(data, file, encoding)  the document
"""

from __future__ import annotations

import importlib
from pathlib import Path
from typing import Protocol, cast

from volvex.data.text.document import UTF8, Encoding, TextData


class Form(Protocol):
    PLACE: int

    def knows(self, data: bytes, kind: str, name: str) -> bool: ...

    def open(self, data: bytes, file: str, encoding: Encoding = UTF8) -> TextData: ...


def form_names() -> list[str]:
    """The forms there are."""
    return sorted(path.stem for path in Path(__file__).parent.glob("[!_]*.py"))


def form_of(data: bytes, kind: str, name: str) -> Form | None:
    """The form of some bytes: `kind` is what their beginning looks like, `name` what the file is called."""
    forms = [cast(Form, importlib.import_module(f"{__name__}.{one}")) for one in form_names()]
    return next((one for one in sorted(forms, key=lambda one: one.PLACE) if one.knows(data, kind, name)), None)
