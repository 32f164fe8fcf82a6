"""Edits that are read again before they count: what the new file gives must be what was asked for, and nothing else.

Whatever goes wrong in writing (an entity that an edit cannot reach into, a value that reads back as another one), the
file that was there stays, and the error says what would have happened.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from volvex.data.differences import differences
from volvex.data.model.sheet import Change, Document, Sheet
from volvex.errors import FormatError, OverlapError, Status, UnfitError, VolvexError

IDS = ("id", "key", "name", "filename")  # fields of open text files by which records are known
HINT = "editing the file by hand, and `volvex swap`"


def edited(document: Document, changes: Sequence[Change], given: bool = False) -> bytes:
    """The file with these changes, read again and compared. FormatError when it does not give them, and them alone.

    `given` says that the user gave the values with the command; by default they stand in a file, and it is that which
    is wrong.
    """
    try:
        data = _written(document, changes)
    except UnfitError as error:
        error.status = UnfitError.status if given else Status.BAD_DATA
        raise
    if not changes:
        return data
    require_edit(document, data, changes)
    return data


def _written(document: Document, changes: Sequence[Change]) -> bytes:
    """The file with these changes: made at once, or where they meet in one place one kind after the other, or one by
    one."""
    try:
        return document.written(changes)
    except OverlapError:
        if len(changes) < 2:
            raise
    groups = [[change for change in changes if change.what == what] for what in ("set", "add", "remove")]
    if max(map(len, groups)) == len(changes):
        groups = [[change] for change in changes]
    data = b""
    for group in filter(None, groups):
        data = _written(document, group)
        document = document.reread(data)
    return data


def require_edit(document: Document, data: bytes, changes: Sequence[Change]) -> None:
    """FormatError unless a new state of a document gives these changes, and them alone."""
    try:
        pair = document.compared(data, changes)
        if pair is not None:
            for one in pair:  # read now, while what goes wrong is known to be the edit's doing
                list(one.sheets)
    except VolvexError as error:
        raise FormatError(document.file, f"this edit would break the file: {error.message}", hint=HINT) from error
    if pair is not None:
        before, after = pair
        check_edit(before, after, changes)


def check_edit(before: Document, after: Document, changes: Sequence[Change]) -> None:
    """FormatError unless the changes are what differs between two states."""
    if [(sheet.name, len(sheet)) for sheet in before.sheets] != [
        (sheet.name, len(sheet)) for sheet in after.sheets
    ] or any(sheet.ids != other.ids for sheet, other in zip(before.sheets, after.sheets, strict=True)):
        _check_records(before, after, changes)
        return
    wanted = {change.place: change.after for change in changes if change.what == "set"}
    found = {difference.place: difference.after for difference in differences(before, after)}
    for place in dict.fromkeys([*wanted, *found]):
        now = found[place] if place in found else _cell(after, place)
        if not _alike(now, wanted[place] if place in wanted else _cell(before, place)):
            raise _fault(after.file, place, now)


def _cell(document: Document, place: tuple[str, str, str]) -> str | None:
    """A cell of a document; None when it is not there."""
    sheet, row_id, field = place
    one = next((one for one in document.sheets if one.name == sheet), None)
    row = one.row(row_id) if one is not None else None
    return one.columns[field].text(row) if one is not None and row is not None and field in one.columns else None


def _check_records(before: Document, after: Document, changes: Sequence[Change]) -> None:
    """Where records came, went or were renamed: those that were asked for, with the fields that were asked for."""
    sheets = {sheet.name: sheet for sheet in after.sheets}
    old = {sheet.name: sheet for sheet in before.sheets}
    for change in changes:
        sheet = sheets.get(change.sheet)
        numbered = change.sheet in old and not old[change.sheet].id and change.id.startswith("#")
        row = sheet.rows.get(change.id) if sheet is not None else None
        if change.what == "remove":
            if row is not None and not numbered and sheet is not None and len(sheet) >= len(old[change.sheet]):
                raise FormatError(after.file, f"{change.sheet}: row {change.id} would still be there", hint=HINT)
        elif change.what == "add":
            _check_added(after.file, change, sheet, row, old, any(other.what == "remove" for other in changes))
        elif (
            change.what == "set"
            and sheet is not None
            and row is not None
            and not numbered
            and (change.field in sheet.columns or change.after is not None)
        ):
            now = sheet.columns[change.field].text(row) if change.field in sheet.columns else None
            if not _alike(now, change.after):
                raise _fault(after.file, change.place, now)
    if before.complete:
        _check_rest(before, after, changes)


def _check_added(
    file: str, change: Change, sheet: Sheet | None, row: int | None, old: Mapping[str, Sheet], removed: bool
) -> None:
    """FormatError unless a new record is there, with its fields."""
    if sheet is None or (len(sheet) <= len(old.get(change.sheet, ())) and not removed):
        raise FormatError(file, f"{change.sheet}: row {change.id} would not be there", hint=HINT)
    if row is None or change.id.startswith("#"):
        return
    record = sheet.record(row)
    for name, value in change.fields:
        if name in record and not _alike(record[name], value):
            raise _fault(file, (change.sheet, change.id, name), record[name])


def _check_rest(before: Document, after: Document, changes: Sequence[Change]) -> None:
    """FormatError when something else differs than what was asked for: what is copied with a record, and what is left
    empty, may."""
    wanted = {change.place for change in changes}
    numbered = {change.sheet for change in changes if change.what != "set" and change.id.startswith("#")}
    around = tuple(f"{change.id}/" for change in changes if change.what == "remove" or change.like)
    renamed = any(change.what == "set" and change.field in IDS for change in changes)
    for found in differences(before, after):
        if renamed and found.what != "set":
            continue
        if found.place in wanted or found.sheet in numbered or found.id.startswith(around):
            continue
        if found.what == "set" and (found.before is None and found.after in ("{}", "[]")):
            continue
        raise _fault(after.file, found.place, found.after if found.what == "set" else f"{found.what}ed")


def _alike(text: str | None, other: str | None) -> bool:
    """Whether two cells are the same; an empty text may be no field at all."""
    return text == other or not ((text or "").strip() or (other or "").strip())


def _fault(file: str, place: tuple[str, str, str], now: str | None) -> FormatError:
    sheet, row_id, field = place
    return FormatError(file, f"{sheet}: row {row_id}: {field} would read back as {now!r}", hint=HINT)
