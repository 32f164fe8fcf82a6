"""Layouts with words changed by chance: refused at a line, or read their samples as any layout does."""

from __future__ import annotations

import random
import re
from collections.abc import Iterator
from pathlib import Path

from tests.books import TABLE, barrels
from tests.families import FAMILIES
from tests.formats import FORMATS, SAMPLES
from tests.fuzz.attempt import Attempt
from tests.more_families import MORE
from tests.test_bad_archives import exercise as use
from tests.trial_families import TRIAL
from volvex.data.model.layout_document import LayoutDocument
from volvex.errors import VolvexError
from volvex.layout.language.parser import parse_layout
from volvex.source import BytesSource

_WORDS = re.compile(r'"[^"\n]*"|[\w.]+|[^\w\s]|\n[ ]*')


def cases(folder: Path, rng: random.Random, only: str) -> Iterator[Attempt]:
    """Layouts in which words were changed for others."""
    samples = [(name, text, make(SAMPLES)) for name, (text, make) in sorted(FORMATS.items())]
    samples += [
        (name, family.layout, family.make(family.files))
        for name, family in sorted({**FAMILIES, **MORE, **TRIAL}.items())
    ]
    samples.append(("barrels", TABLE, barrels()))
    samples = [sample for sample in samples if sample[0].startswith(only)]
    words = [word for _, text, _ in samples for word in _WORDS.findall(text)]
    words += [
        "0",
        "1",
        "2000000000",
        "99999999999999999999",
        "z" * 5000,
        '"' + "x" * 300 + '"',
        "-1",
        "0x",
        "\0",
        "u128",
        "i1",
    ]
    while True:
        name, text, data = rng.choice(samples)
        tokens = re.split(r'("[^"\n]*"|[\w.]+|[^\w\s])', text)
        for _ in range(rng.randint(1, 3)):
            at = rng.randrange(len(tokens))
            tokens[at] = (
                rng.choice(words)
                if rng.random() < 0.7
                else ""
                if rng.random() < 0.5
                else tokens[at] + " " + rng.choice(words)
            )
        made = "".join(tokens)
        yield Attempt(name, made.encode("utf-8", "replace"), lambda text=made, data=data: exercise(text, data))  # type: ignore[misc]


def exercise(text: str, data: bytes) -> str | None:
    """Parse it, and read the sample by it."""
    try:
        layout = parse_layout(text, "mutant.layout")
        if layout.kind == "archive":
            use(layout, data)
            return None
        document = LayoutDocument(layout, BytesSource(data, "sample"))
        for sheet in document.sheets:
            for row in range(min(2, len(sheet))):
                sheet.record(row)
        document.written([])
    except VolvexError as error:
        return None if error.lines()[0] else "an error without words"
    return None
