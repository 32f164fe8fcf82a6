"""Texts one by one, as translators have them: id, where it is used, original, translation."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from volvex.data.check import by_key
from volvex.data.edit import fault_of, raise_all
from volvex.data.exchange import Incoming, Wanted
from volvex.data.model.sheet import JOINED, Change, Document, Sheet
from volvex.errors import FormatError, UsageError, VolvexError

LINES = "lines"  # the form of plain text: each of its lines is a text of its own
HEADS = ("id", "used in", "original", "translation")


@dataclass(frozen=True)
class Unit:
    """A text in two languages. `field` and `row` say where the translation is, if there is one."""

    id: str
    use: str
    original: str
    translation: str
    sheet: str
    row: str
    field: str
    there: bool


def languages(document: Document) -> list[str]:
    """The languages of a text table, in its order."""
    found: dict[str, None] = {}
    for sheet in document.sheets:
        for record in by_key(sheet).values():
            found |= dict.fromkeys(record)
    return list(found)


def settled(document: Document, wanted: Wanted) -> tuple[str, str]:
    """The original's language and the one wanted; UsageError when there are no such."""
    if document.form == LINES:
        return wanted.original or "", wanted.language or ""
    if document.form != "text":
        raise UsageError(f"{document.file} is a {document.form}: only texts have languages", "leaving --language out")
    known = languages(document)
    language = wanted.language or next((text for text in known if text != wanted.original), known[0] if known else "")
    original = (
        wanted.original if wanted.original in known else next((text for text in known if text != language), language)
    )
    if language not in known:
        _require_new(document, language, known)
    return str(original), language


def _require_new(document: Document, language: str, known: list[str]) -> None:
    """UsageError unless a language that a document does not have can be added to it: where each language has records of
    its own."""
    sheet = next((sheet for sheet in document.sheets if len(sheet.id) > 1), None)
    rule = sheet.columns[sheet.id[-1]].rule if sheet is not None else None
    if rule is None:
        raise UsageError(
            f"{document.file} has no language {language}, and a field of its own for each", f"one of {', '.join(known)}"
        )
    if rule.words and language not in rule.words:
        raise UsageError(f"{document.file} can hold no language {language}", f"one of {', '.join(rule.words)}")


def _lines(document: Document) -> Iterator[Unit]:
    """The lines of a plain text, with nothing for their translations yet."""
    for sheet in document.sheets:
        for row_id, text in zip(sheet.ids, sheet.columns["line"].texts() if len(sheet) else (), strict=True):
            if text and text.strip():
                yield Unit(row_id, "", text, "", sheet.name, row_id, "line", True)


def units(document: Document, wanted: Wanted) -> Iterator[Unit]:
    """The texts of a document, in its order."""
    original, language = settled(document, wanted)
    if document.form == LINES:
        yield from _lines(document)
        return
    for sheet in document.sheets:
        uses = next((column for column in sheet.columns.values() if column.rule.role == "context"), None)
        for row_id, record in by_key(sheet).items():
            source, target = record.get(original), record.get(language)
            first = source or next(iter(record.values()))
            row, field, text = target or (first[0], first[1], "")
            use = uses.text(first[0]) or "" if uses is not None else ""
            yield Unit(
                row_id, use, source[2] if source else "", text, sheet.name, sheet.ids[row], field, target is not None
            )


def changed_units(
    document: Document, wanted: Wanted, records: Sequence[tuple[str, dict[str, str]]], file: str
) -> Incoming:
    """The changes that translations make which came back, each told with where it stands."""
    known = {unit.id: unit for unit in units(document, wanted)}
    _, language = settled(document, wanted)
    faults: list[VolvexError] = []
    changes, notes = [], []
    seen = set[str]()
    for where, record in records:
        row_id, text = record.get(HEADS[0], ""), record.get(HEADS[3], "")
        one = known.get(row_id)
        if one is None or row_id in seen:
            allowed = "an id of a record" if one is None else "each id once"
            faults.append(FormatError(file, f"{where}, column {HEADS[0]}: {row_id!r}", hint=allowed))
            continue
        seen.add(row_id)
        if record.get(HEADS[2], one.original) != one.original:
            notes.append(f"{where}: the original of {row_id} was another one: {record[HEADS[2]]!r}")
        if text == one.translation or (not text and not one.there):
            continue
        if document.form == LINES:
            if text and text != one.original:
                changes.append(Change("set", one.sheet, one.row, one.field, one.original, text))
            continue
        if not one.there:
            made = _added(document, one, row_id, language, text, where, file, faults)
            changes += [made] if made is not None else []
            continue
        changes += _changed(document.sheet(one.sheet), one, text, where, file, faults)
    raise_all(faults)
    return Incoming(changes, notes)


def _added(
    document: Document,
    unit: Unit,
    row_id: str,
    language: str,
    text: str,
    where: str,
    file: str,
    faults: list[VolvexError],
) -> Change | None:
    """A record for a text in a language that had none of it; None, and a fault, where there is no place for one."""
    sheet = document.sheet(unit.sheet)
    if len(sheet.id) < 2:
        faults.append(
            FormatError(
                file,
                f"{where}: {row_id} has no text in this language, and its record no field for it",
                hint="leaving it out",
            )
        )
        return None
    fields = {sheet.id[0]: row_id, sheet.id[-1]: language, unit.field: text}
    bad = [
        fault
        for name, value in fields.items()
        if (fault := fault_of(sheet.columns[name], value, row_id, file)) is not None
    ]
    faults += [FormatError(file, f"{where}: {fault.problem}", hint=fault.hint) for fault in bad]
    return (
        None
        if bad
        else Change("add", sheet.name, f"{row_id}{JOINED}{language}", fields=tuple(fields.items()), like=unit.row)
    )


def _changed(sheet: Sheet, unit: Unit, text: str, where: str, file: str, faults: list[VolvexError]) -> list[Change]:
    fault = fault_of(sheet.columns[unit.field], text, unit.row, file)
    if fault is not None:
        faults.append(FormatError(file, f"{where}: {fault.problem}", hint=fault.hint))
        return []
    return [Change("set", unit.sheet, unit.row, unit.field, unit.translation, text)]
