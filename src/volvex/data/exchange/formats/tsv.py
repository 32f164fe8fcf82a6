"""As CSV, with tabs between the values."""

from __future__ import annotations

from volvex.data.exchange import Incoming, Wanted
from volvex.data.exchange.formats import csv
from volvex.data.model.sheet import Document

EXTENSIONS = ("tsv",)
FORMS = ()


def write(document: Document, wanted: Wanted) -> bytes:
    """The file."""
    return csv.write(document, wanted, "\t")


def read(data: bytes, document: Document, wanted: Wanted, file: str) -> Incoming:
    """The changes that the file makes, whatever it has between its values."""
    return csv.read(data, document, wanted, file)
