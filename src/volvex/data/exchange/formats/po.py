"""Gettext PO: the id is the context of each message, where it is used a comment."""

from __future__ import annotations

from collections.abc import Iterable

from volvex.data.exchange import Incoming, Wanted, text_of
from volvex.data.exchange.units import HEADS, LINES, changed_units, languages, settled, units
from volvex.data.model.sheet import Document
from volvex.errors import FormatError

ENDINGS = ("po",)
FORMS = ("text", LINES)
_BREAKS = "\x1c\x1d\x1e\x85\u2028\u2029"  # where the library ends a line, and no PO file does
_ESCAPED = "\x0b\x0c"  # the same, but it writes these as escapes
_STAND_INS = range(0xF0000, 0xFFFFD)  # private characters, of which some are free in any text
_FIRST = "#\n"  # so that no content is taken for the name of a file


class _Guard:
    """Characters that the library would take for ends of lines, as others that the texts have not."""

    def __init__(self, texts: Iterable[str], breaks: str = _BREAKS) -> None:
        used = set().union(*texts)
        free = (code for code in _STAND_INS if chr(code) not in used)
        self._there = {ord(text): next(free) for text in breaks if text in used}
        self._back = {code: number for number, code in self._there.items()}

    def put(self, text: str) -> str:
        return text.translate(self._there)

    def taken(self, text: str) -> str:
        return text.translate(self._back)


def write(document: Document, wanted: Wanted) -> bytes:
    """The file."""
    import polib

    _, language = settled(document, wanted)
    made = polib.POFile(wrapwidth=0)
    made.metadata = {
        "MIME-Version": "1.0",
        "Content-Type": "text/plain; charset=UTF-8",
        "Content-Transfer-Encoding": "8bit",
        "Language": language,
    }
    found = list(units(document, wanted))
    guard = _Guard(text for unit in found for text in (unit.id, unit.original, unit.translation, unit.use))
    for unit in found:
        row_id, original, translation, use = map(guard.put, (unit.id, unit.original, unit.translation, unit.use))
        made.append(polib.POEntry(msgctxt=row_id, msgid=original, msgstr=translation, comment=use))
    return (guard.taken(str(made)) + "\n").encode()


def read(data: bytes, document: Document, wanted: Wanted, file: str) -> Incoming:
    """The changes that the file makes; messages that are marked as fuzzy or obsolete make none."""
    import polib

    text = text_of(data, file)
    guard = _Guard([text], _BREAKS + _ESCAPED)
    try:
        made = polib.pofile(_FIRST + guard.put(text), wrapwidth=0)
    except (OSError, ValueError) as error:
        raise FormatError(file, f"not a valid PO file: {error}", hint="mending it in an editor") from error
    if len(made) == 0 and data.strip():
        raise FormatError(file, "no messages in it", hint="the file as it was written")
    language = made.metadata.get("Language") or wanted.language
    if not language and document.form != LINES and len(languages(document)) > 1:
        raise FormatError(
            file,
            "its head has no Language, so the language is unknown",
            hint="--language with the language of the file",
        )
    told = Wanted(wanted.sheet, wanted.row, language, wanted.original)
    records = [
        (
            f"line {one.linenum - 1}",
            {
                HEADS[0]: guard.taken(one.msgctxt or ""),
                HEADS[2]: guard.taken(one.msgid),
                HEADS[3]: guard.taken(one.msgstr),
            },
        )
        for one in made
        if not one.obsolete
    ]
    fuzzy = {guard.taken(one.msgctxt or "") for one in made if "fuzzy" in one.flags}
    found = changed_units(document, told, [record for record in records if record[1][HEADS[0]] not in fuzzy], file)
    notes = [f"{len(fuzzy):,} messages are marked as fuzzy and were left out"] if fuzzy else []
    return Incoming(found.changes, [*found.notes, *notes])
