"""Gettext PO: the key is the context of each message, where it is used a comment."""

from __future__ import annotations

from volvex.data.exchange import Incoming, Wanted
from volvex.data.sheet import Document
from volvex.data.units import HEADS, changed_units, settled, units
from volvex.errors import FormatError

ENDINGS = ("po",)
FORMS = ("text",)


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
    for one in units(document, wanted):
        made.append(polib.POEntry(msgctxt=one.key, msgid=one.original, msgstr=one.translation, comment=one.use))
    return (str(made) + "\n").encode("utf-8", "surrogateescape")


def read(data: bytes, document: Document, wanted: Wanted, file: str) -> Incoming:
    """The changes that the file makes; messages that are marked as fuzzy or obsolete make none."""
    import polib

    try:
        made = polib.pofile(data.decode("utf-8-sig", "surrogateescape"), wrapwidth=0)
    except (OSError, ValueError) as error:
        raise FormatError(file, f"not a sound PO file: {error}", hint="mending it in an editor") from error
    if len(made) == 0 and data.strip():
        raise FormatError(file, "no messages in it", hint="the file as it was written")
    language = made.metadata.get("Language") or wanted.language
    told = Wanted(wanted.sheet, wanted.row, language, wanted.original)
    records = [
        (f"line {one.linenum}", {HEADS[0]: one.msgctxt or "", HEADS[2]: one.msgid, HEADS[3]: one.msgstr})
        for one in made
        if not one.obsolete
    ]
    fuzzy = {one.msgctxt for one in made if "fuzzy" in one.flags}
    found = changed_units(document, told, [one for one in records if one[1][HEADS[0]] not in fuzzy], file)
    notes = [f"{len(fuzzy):,} messages are marked as fuzzy and were left out"] if fuzzy else []
    return Incoming(found.changes, [*found.notes, *notes])
