"""Gettext PO: of texts by id, the id is the context of each message and where it is used a comment; a binary catalogue
has messages of its own, with contexts and plural forms."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from volvex.data.edit import fault_of, raise_all
from volvex.data.exchange import Incoming, Wanted, text_of
from volvex.data.exchange.units import HEADS, LINES, changed_units, languages, settled, units
from volvex.data.model.catalogue import HEAD, Catalogue
from volvex.data.model.sheet import Change, Document
from volvex.errors import FormatError, VolvexError

EXTENSIONS = ("po",)
FORMS = ("text", LINES, Catalogue.form)
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

    if document.form == Catalogue.form:
        return _messages_out(document)
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
    if len(made) == 0 and not made.metadata and data.strip():
        raise FormatError(file, "no messages in it", hint="the file as it was written")
    if document.form == Catalogue.form:
        return _messages_in(made, guard, document, file)
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


def _forms(record: Mapping[str, str]) -> list[str]:
    """The fields with a message's texts: one, or one for each plural form."""
    return [name for name in record if name == "text" or name.startswith("text[")]


def _messages_out(document: Document) -> bytes:
    """The messages of a catalogue, with its head."""
    import polib

    sheet = document.sheets[0]
    records = {row_id: sheet.record(row) for row_id, row in sheet.rows.items()}
    guard = _Guard(text for record in records.values() for text in record.values())
    made = polib.POFile(wrapwidth=0)
    for row_id, record in records.items():
        if row_id == HEAD:
            made.metadata = dict(_head(line) for line in record["text"].splitlines() if line)
            continue
        put = {name: guard.put(text) for name, text in record.items()}
        texts = [put[name] for name in _forms(record)]
        told = {"msgstr_plural": dict(enumerate(texts))} if "plural" in put else {"msgstr": texts[0]}
        plural = put.get("plural", "")
        made.append(polib.POEntry(msgctxt=put.get("context"), msgid=put["id"], msgid_plural=plural, **told))
    return (guard.taken(str(made)) + "\n").encode()


def _head(line: str) -> tuple[str, str]:
    name, _, value = line.partition(":")
    return name, value.strip()


def _messages_in(made: Any, guard: _Guard, document: Document, file: str) -> Incoming:
    """The changes that messages make in a catalogue; its head stays."""
    sheet = document.sheets[0]
    changes, faults, left = [], list[VolvexError](), 0
    for one in made:
        if one.obsolete or "fuzzy" in one.flags:
            left += 1
            continue
        name = guard.taken(one.msgid)
        row_id = name if one.msgctxt is None else f"{guard.taken(one.msgctxt)}|{name}"
        row = sheet.row(row_id)
        where = f"line {one.linenum - 1}"
        if row is None:
            faults.append(
                FormatError(file, f"{where}: the catalogue has no message {row_id!r}", hint="its own messages")
            )
            continue
        record = sheet.record(row)
        texts = one.msgstr_plural.values() if "plural" in record else [one.msgstr]
        if len(texts) != len(_forms(record)):
            faults.append(
                FormatError(file, f"{where}: {len(texts)} forms of {row_id!r}, expected {len(_forms(record))}")
            )
            continue
        for field, text in zip(_forms(record), map(guard.taken, texts), strict=True):
            fault = fault_of(sheet.column(field, document.file), text, row_id, file)
            faults += [fault] if fault is not None else []
            if text != record[field]:
                changes.append(Change("set", sheet.name, row_id, field, record[field], text))
    raise_all(faults)
    return Incoming(changes, [f"{left:,} messages are fuzzy or obsolete and were left out"] if left else [])
