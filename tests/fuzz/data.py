"""Damaged data files: tables, texts, scenes, XML, JSON and the rest, looked at, exported, edited, and compared."""

from __future__ import annotations

import plistlib
import random
from collections.abc import Iterator
from pathlib import Path

from tests.books import FILES, LIBRARY, TABLE, barrels
from tests.fuzz.attempt import TEXTS, Attempt, mutate, mutate_text
from volvex.data import Change, Document, open_data
from volvex.data.differences import differences
from volvex.data.edit import Target, replacements
from volvex.data.exchange import Wanted, exported
from volvex.data.find import values
from volvex.data.outline import outline
from volvex.data.verify import edited
from volvex.errors import VolvexError
from volvex.layout.language.parser import parse_layout

MORE = {
    "types.xml": b'<!DOCTYPE r [<!ENTITY e "<a>1</a>"><!ENTITY t "five"><!ATTLIST b v CDATA "d">]>\n<r id="z">&e;<b id="q">&t; 5</b><b id="s" v=\'7\'/></r>\n',  # noqa: E501
    "odd.json": b'{"a": [{"id": "x", "n": 1e5, "t": "\\ud800"}, {"id": "x", "n": -0.0}], "b": {"c": {"d": null}}}\n',
    "keys.ini": b"[a]\nk = 1\nk = 2\nx=  y  \n[a]\nk: 3\n; note\n[b]\n",
    "rows.csv": b'id;name;n\n1;"a ""b"" c";3\n2;x;4\n2;y;5\n',
    "values.bin": plistlib.dumps({"a": 5, "b": ["x", True, {"c": b"12"}]}, fmt=plistlib.FMT_BINARY),
    "values.plist": b'<plist version="1.0"><dict><key>a</key><integer>5</integer><key>b</key><array><string>x</string><true/></array></dict></plist>\n',  # noqa: E501
    "wide.xml": '<?xml version="1.0" encoding="utf-16"?><r><a id="1">ä</a></r>'.encode("utf-16"),
}
FORMS = ("csv", "tsv", "json", "po", "xlf", "xlsx")


def corpus() -> dict[str, bytes]:
    """A file of each form and kind."""
    return {**FILES, **MORE, "barrels.tbl": barrels()}


def opened(name: str, data: bytes) -> Document | None:
    """A file as data, by the library or by the one layout that is not in it."""
    layout = parse_layout(TABLE, "barrels") if name == "barrels.tbl" else None
    return open_data(data, LIBRARY, name, layout)


def cases(folder: Path, rng: random.Random, only: str) -> Iterator[Attempt]:
    """Files with some bytes changed."""
    samples = [(name, data) for name, data in sorted(corpus().items()) if name.rpartition("/")[2].startswith(only)]
    while True:
        name, data = rng.choice(samples)
        is_text = name.endswith((".xml", ".json", ".ini", ".csv", ".plist", ".txt"))
        mutated = data if rng.random() < 0.2 else (mutate_text if is_text else mutate)(rng, data)
        seed = rng.random()
        yield Attempt(
            f"{name.rpartition('.')[2]}: {name}",
            mutated,
            lambda name=name, data=mutated, seed=seed: exercise(name, data, random.Random(seed)),  # type: ignore[misc]
        )


def exercise(name: str, data: bytes, rng: random.Random) -> str | None:
    """All that can be done with a file of data; what went wrong beyond our errors."""
    try:
        document = opened(name, data)
        if document is None:
            return None
        for sheet in document.sheets:
            for row in range(min(3, len(sheet))):
                sheet.record(row)
            assert len(set(sheet.ids)) == len(sheet.ids), "two records have one key"
        outline(document)
        list(values(document, "5"))
        if document.written([]) != data:
            return "it is not written as it was read"
        _edit(document, rng)
        exported(rng.choice(FORMS if rng.random() < 0.3 else FORMS[:5]), document, Wanted())
    except VolvexError as error:
        if not error.lines()[0]:
            return "an error without words"
    return None


def _edit(document: Document, rng: random.Random) -> None:
    """A value set by chance, a text replaced: what is asked for is what differs, or it is refused."""
    sheets = [sheet for sheet in document.sheets if len(sheet) and sheet.columns]
    if not sheets:
        return
    sheet = rng.choice(sheets)
    row, field = rng.randrange(len(sheet)), rng.choice(list(sheet.columns))
    before = sheet.cell(row, field)
    after = rng.choice((*TEXTS, b"5", b"x")).decode("utf-8", "surrogateescape")
    try:
        made = edited(document, [Change("set", sheet.name, sheet.ids[row], field, before, after)])
        again = document.reread(made)
        if field not in sheet.id and [sheet.ids for sheet in again.sheets] == [sheet.ids for sheet in document.sheets]:
            found = differences(document, again)
            assert all((change.id, change.field) == (sheet.ids[row], field) for change in found), found
    except VolvexError:
        pass
    try:
        edited(document, replacements(document, Target(), "a", after, False))
    except VolvexError:
        pass
