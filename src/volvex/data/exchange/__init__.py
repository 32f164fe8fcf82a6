"""Forms of data that ordinary programs open: one file each.

ENDINGS     of its files
FORMS       the forms of documents that can go there; empty: all
write(document, wanted) the file's bytes
read(data, document, wanted, file) the changes that the file makes in the document, and notes; every fault in it at once
"""

from __future__ import annotations

import functools
import importlib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol, cast

from volvex.data.sheet import Change, Document, Sheet
from volvex.errors import UsageError


@dataclass(frozen=True)
class Wanted:
    """What of a document is exchanged: one sheet, one record, or (of texts) one language beside the original."""

    sheet: str | None = None
    row: str | None = None
    language: str | None = None
    original: str | None = None  # the language that is translated


@dataclass(frozen=True)
class Incoming:
    """What came of reading a file: changes, and what is worth knowing besides."""

    changes: list[Change]
    notes: list[str]


class Exchange(Protocol):
    ENDINGS: tuple[str, ...]
    FORMS: tuple[str, ...]

    def write(self, document: Document, wanted: Wanted) -> bytes: ...

    def read(self, data: bytes, document: Document, wanted: Wanted, file: str) -> Incoming: ...


@functools.cache
def exchanges() -> dict[str, Exchange]:
    """All of them, by the endings of their files."""
    names = sorted(path.stem for path in Path(__file__).parent.glob("[!_]*.py"))
    modules = [cast(Exchange, importlib.import_module(f"{__name__}.{name}")) for name in names]
    return {ending: one for one in modules for ending in one.ENDINGS}


def exchange_for(ending: str, document: Document) -> Exchange:
    """The exchange form of an ending (`csv`), for a document; UsageError when there is none."""
    known = exchanges()
    found = known.get(ending.lstrip(".").lower())
    fitting = [one for one, form in sorted(known.items()) if not form.FORMS or document.form in form.FORMS]
    if found is None or (found.FORMS and document.form not in found.FORMS):
        raise UsageError(
            f"{document.file} is a {document.form}, which cannot become {ending}", f"one of {', '.join(fitting)}"
        )
    return found


def wanted_sheets(document: Document, wanted: Wanted) -> Sequence[Sheet]:
    """The sheets that are exchanged; UsageError when a form holds one and there are several."""
    return [document.sheet(wanted.sheet)] if wanted.sheet else document.sheets


def one_sheet(document: Document, wanted: Wanted) -> Sheet:
    """The only sheet that is exchanged."""
    sheets = wanted_sheets(document, wanted)
    if len(sheets) != 1:
        raise UsageError(f"{document.file} has several sorts of records: {', '.join(one.name for one in sheets)}",
                         f"--sheet {sheets[0].name}, or a form that holds several: xlsx, json" if sheets else "")  # fmt: skip
    return sheets[0]
