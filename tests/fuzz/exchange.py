"""Damaged files that come back from other programs: CSV, JSON, PO, XLIFF, and workbooks, of which also what is
inside."""

from __future__ import annotations

import io
import random
import zipfile
from collections.abc import Iterator
from pathlib import Path

from tests.fuzz.attempt import Attempt, mutate, mutate_text
from tests.fuzz.data import FORMS, corpus, opened
from volvex.data import Document
from volvex.data.exchange import Wanted, exported, imported
from volvex.data.verify import edited
from volvex.errors import VolvexError


def cases(folder: Path, rng: random.Random, only: str) -> Iterator[Attempt]:
    """Exported files with some bytes changed."""
    samples = []
    for name, data in sorted(corpus().items()):
        document = opened(name, data)
        for form in FORMS if document is not None else ():
            assert document is not None
            try:
                samples.append((form, document, exported(form, document, Wanted())))
            except VolvexError:
                continue
    samples = [sample for sample in samples if sample[0].startswith(only)]
    while True:
        form, document, data = rng.choice(samples)
        mutated = _workbook(rng, data) if form == "xlsx" else mutate_text(rng, data)
        yield Attempt(form, mutated, lambda form=form, document=document, data=mutated: exercise(form, document, data))  # type: ignore[misc]


def _workbook(rng: random.Random, data: bytes) -> bytes:
    """A workbook with one of its parts changed, or none of them and its own bytes."""
    if rng.random() < 0.2:
        return mutate(rng, data)
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as before, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as after:
        names = before.namelist()
        chosen = rng.choice(
            [name for name in names if "sheet" in name or "workbook" in name] if rng.random() < 0.7 else names
        )
        for name in names:
            content = before.read(name)
            after.writestr(name, mutate_text(rng, content) if name == chosen else content)
    return out.getvalue()


def exercise(form: str, document: Document, data: bytes) -> str | None:
    """Take it over: the changes that it makes are made, or it is refused."""
    try:
        incoming = imported(form, data, document, Wanted(), f"back.{form}")
        edited(document, incoming.changes)
    except VolvexError as error:
        return None if error.lines()[0] else "an error without words"
    return None
