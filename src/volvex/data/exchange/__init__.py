"""Forms of data that ordinary programs open: one file each.

EXTENSIONS     of its files
FORMS       the forms of documents that can go there; empty: all
write(document, wanted) the file's bytes
read(data, document, wanted, file) the changes that the file makes in the document, and notes; every fault in it at once
"""

from __future__ import annotations

import functools
import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from volvex.data.model.sheet import Change, Document, Sheet
from volvex.errors import FormatError, UsageError, VolvexError
from volvex.library_errors import library_errors as library_errors
from volvex.registry import Registry

_SURROGATE = re.compile("[\ud800-\udfff]")


@dataclass(frozen=True)
class Wanted:
    """What of a document is exchanged: one sheet, one record, or (of texts) one language beside the original."""

    sheet: str | None = None
    row: str | None = None
    language: str | None = None
    original: str | None = None  # the language that is translated


@dataclass(frozen=True)
class Incoming:
    """The result of reading a file: changes, and notes."""

    changes: list[Change]
    notes: list[str]


class Exchange(Protocol):
    EXTENSIONS: tuple[str, ...]
    FORMS: tuple[str, ...]

    def write(self, document: Document, wanted: Wanted) -> bytes: ...

    def read(self, data: bytes, document: Document, wanted: Wanted, file: str) -> Incoming: ...


EXCHANGES: Registry[Exchange] = Registry(
    "exchange", f"{__name__}.formats", Path(__file__).parent / "formats", needs=("EXTENSIONS", "FORMS", "write", "read")
)


@functools.cache
def exchanges() -> dict[str, Exchange]:
    """All exchange formats, by the extensions of their files."""
    return {extension: exchange for exchange in EXCHANGES.all() for extension in exchange.EXTENSIONS}


def exchange_for(extension: str, document: Document) -> Exchange:
    """The exchange form of an ending (`csv`), for a document; UsageError when there is none."""
    known = exchanges()
    found = known.get(extension.lstrip(".").lower())
    fitting = [text for text, form in sorted(known.items()) if not form.FORMS or document.form in form.FORMS]
    if found is None or (found.FORMS and document.form not in found.FORMS):
        raise UsageError(
            f"{document.file} is a {document.form}, which cannot become {extension or 'a file without an extension'}",
            f"one of {', '.join(fitting)}",
        )
    return found


def exported(extension: str, document: Document, wanted: Wanted) -> bytes:
    """A document in an open form, read back and compared: FormatError when a value would not come back as it is."""
    form = exchange_for(extension, document)
    file = f"the {extension.lstrip('.')} file"
    try:
        data = form.write(document, wanted)
    except UnicodeEncodeError:
        raise _undecodable(document, extension) from None
    try:
        back = _read(form, data, document, wanted, file)
    except VolvexError as error:
        raise FormatError(
            document.file,
            f"it cannot be written as {extension.lstrip('.')}: {error.message}",
            hint=_others(document, extension),
        ) from error
    if back.changes:
        change = back.changes[0]
        raise FormatError(
            document.file,
            f"row {change.id}: {change.field} would come back from {extension.lstrip('.')} as {change.after!r}, it "
            f"is {change.before!r}",
            hint=_others(document, extension),
        )
    return data


def imported(extension: str, data: bytes, document: Document, wanted: Wanted, file: str) -> Incoming:
    """The changes that a file in an open form makes in a document; FormatError with every fault in it."""
    return _read(exchange_for(extension, document), data, document, wanted, file)


def _read(form: Exchange, data: bytes, document: Document, wanted: Wanted, file: str) -> Incoming:
    with library_errors(file, f"{form.EXTENSIONS[0]} file", "saving it again with the program that made it"):
        return form.read(data, document, wanted, file)


def _others(document: Document, extension: str) -> str:
    known = [text for text, form in sorted(exchanges().items()) if not form.FORMS or document.form in form.FORMS]
    return f"another format: {', '.join(text for text in known if text != extension.lstrip('.'))}"


def _undecodable(document: Document, extension: str) -> FormatError:
    """The error for bytes that are not text: where they are."""
    for sheet in document.sheets:
        for column in sheet.columns.values():
            for row, text in enumerate(column.texts()):
                if text is not None and _SURROGATE.search(text):
                    return FormatError(
                        document.file,
                        f"row {sheet.ids[row]}: {column.name} has bytes that are not text in its encoding, "
                        f"which no {extension.lstrip('.')} file can hold: {text!r}",
                        hint="setting that value first",
                    )
    return FormatError(
        document.file, f"a name in it has bytes that are not text, which no {extension.lstrip('.')} file can hold"
    )


def text_of(data: bytes, file: str) -> str:
    """The text of a file that came back; FormatError when another program saved it in another encoding."""
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        raise FormatError(
            file,
            f"line {line} is not UTF-8: the file was saved in another encoding",
            offset=error.start,
            hint="saving it as UTF-8 (in spreadsheets: CSV UTF-8)",
        ) from error


def wanted_sheets(document: Document, wanted: Wanted) -> Sequence[Sheet]:
    """The sheets that are exchanged; UsageError when a form holds one and there are several."""
    return [document.sheet(wanted.sheet)] if wanted.sheet else document.sheets


def one_sheet(document: Document, wanted: Wanted) -> Sheet:
    """The only sheet that is exchanged."""
    sheets = wanted_sheets(document, wanted)
    if len(sheets) != 1:
        raise UsageError(
            f"{document.file} has several kinds of records: {', '.join(sheet.name for sheet in sheets)}",
            f"--sheet {sheets[0].name}, or a format that holds several: xlsx, json" if sheets else "",
        )
    return sheets[0]
