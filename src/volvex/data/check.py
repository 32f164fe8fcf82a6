"""What is wrong with a game's data: what stops a game is an error, what only looks wrong a warning."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from volvex.data.meanings import Spot
from volvex.data.model.sheet import JOINED, TEXT, Document, Sheet
from volvex.data.path_index import fits
from volvex.data.placeholders import difference
from volvex.data.references import Catalogue, is_there, lookup
from volvex.errors import VolvexError

ERROR, WARNING = "error", "warning"
NOTHING = ("", "0", "-1", "none", "null")  # no reference
HIDDEN = ("yes", "true", "1")


@dataclass(frozen=True)
class Problem:
    """Something wrong: where, what, and what to do."""

    level: str
    kind: str  # file, reference, hidden, id, placeholder, length, font, path, version
    file: str
    sheet: str
    id: str
    field: str
    message: str
    hint: str = ""

    @property
    def place(self) -> str:
        """Where, in words."""
        record = f"{self.sheet}: row {self.id}" if self.id else self.sheet
        return f"{record}: {self.field}" if self.field else record

    @property
    def told(self) -> str:
        """The problem in one line, without the hint."""
        return ": ".join(text for text in (self.file, self.place, self.message) if text)


def problems(catalogue: Catalogue, paths: Iterable[str]) -> Iterator[Problem]:
    """All that is wrong in some files."""
    glyphs: dict[str, frozenset[str]] = {}
    for path in paths:
        document = catalogue.document(path)
        if document is None:
            if path in catalogue.faults:
                error = catalogue.faults[path]
                yield Problem(ERROR, "file", path, "", "", "", _plain(error), error.hint)
            continue
        try:
            yield from _of_document(catalogue, path, document, glyphs)
        except VolvexError as error:  # a value that cannot be read
            yield Problem(ERROR, "file", path, "", "", "", _plain(error), error.hint)


def _of_document(
    catalogue: Catalogue, path: str, document: Document, glyphs: dict[str, frozenset[str]]
) -> Iterator[Problem]:
    for sheet in document.sheets:
        yield from _ids(path, sheet)
        yield from _references(catalogue, path, sheet)
        yield from _paths(catalogue, path, sheet)
        yield from _lengths(catalogue, path, sheet)
        yield from _fonts(catalogue, path, sheet, glyphs)
        if document.form == "text":
            yield from _placeholders(catalogue.meanings.language, path, sheet)
    yield from _versions(catalogue, path, document)


def lost_keys(path: str, before: Document, after: Document) -> Iterator[Problem]:
    """Ids that are there twice since a change: where a table tells its id by not repeating it, nothing else shows
    that."""
    for sheet in after.sheets:
        was = next((one for one in before.sheets if one.name == sheet.name and one.id), None)
        if was is None or was.id == sheet.id or not all(name in sheet.columns for name in was.id):
            continue
        lines = [
            JOINED.join(some)
            for some in zip(*([text or "" for text in sheet.columns[name].texts()] for name in was.id), strict=True)
        ]
        for row_id in dict.fromkeys(text for text in lines if lines.count(text) > 1):
            yield Problem(
                ERROR,
                "id",
                path,
                sheet.name,
                row_id,
                was.id[0],
                "this id occurs more than once",
                "another id for one of them",
            )


def _plain(error: VolvexError) -> str:
    return error.message.partition(": ")[2] or error.message


def _ids(path: str, sheet: Sheet) -> Iterator[Problem]:
    for row_id in dict.fromkeys([*sheet.repeated, *_own_repeated(sheet)]):
        yield Problem(
            ERROR, "id", path, sheet.name, row_id, "", "this id occurs more than once", "another id for one of them"
        )


def _own_repeated(sheet: Sheet) -> list[str]:
    return [
        row_id.rpartition("#")[0]
        for row_id in sheet.ids
        if "#" in row_id[1:] and row_id.rpartition("#")[0] in sheet.rows
    ]


def _references(catalogue: Catalogue, path: str, sheet: Sheet) -> Iterator[Problem]:
    for name, column in sheet.columns.items():
        targets = catalogue.targets(path, sheet, name)
        if targets is None:
            continue
        known: dict[str, Problem | None] = {}
        text = column.rule.refers or (targets[0][1].name if targets else "what this refers to")
        file = targets[0][0] if targets else ""
        for row, row_id in enumerate(column.texts()):
            if row_id is None or row_id in NOTHING:
                continue
            if row_id not in known:
                known[row_id] = _reference(targets, row_id, text, file)
            found = known[row_id]
            if found is not None:
                yield Problem(
                    found.level, found.kind, path, sheet.name, sheet.ids[row], name, found.message, found.hint
                )


def _reference(targets: list[tuple[str, Sheet]], row_id: str, text: str, file: str) -> Problem | None:
    """What is wrong with one id, wherever it is used."""
    if not is_there(targets, row_id):
        where = f" ({file})" if file else ""
        message = f"there is no {row_id} in {text}{where}"
        return Problem(
            ERROR,
            "reference",
            "",
            "",
            "",
            "",
            message,
            _near(row_id, [row_id for _, sheet in targets for row_id in sheet.ids[:20000]]),
        )
    for other, sheet, row in lookup(targets, row_id):
        hidden = next(
            (column for column in sheet.columns.values() if column.rule.role == "hidden" or column.name == "hidden"),
            None,
        )
        if hidden is not None and hidden.text(row) in HIDDEN:
            return Problem(
                WARNING,
                "hidden",
                "",
                "",
                "",
                "",
                f"{sheet.name} {row_id} is hidden ({other})",
                f"{hidden.name}=no for it, or another id here",
            )
    return None


def _near(row_id: str, ids: list[str]) -> str:
    """What may have been meant: a word like it, or all numbers when there are few."""
    plain = list(dict.fromkeys(row_id.partition(JOINED)[0] for row_id in ids))
    if row_id.isdigit():
        return f"one of {', '.join(plain)}" if 0 < len(plain) <= 8 else "an id of a record"
    near = difflib.get_close_matches(row_id, plain, 1)
    return near[0] if near else "an id of a record"


def _paths(catalogue: Catalogue, path: str, sheet: Sheet) -> Iterator[Problem]:
    for name, column in sheet.columns.items():
        if not catalogue.is_path(path, sheet, name):
            continue
        for row, text in enumerate(column.texts()):
            if text and not catalogue.has(text):
                same = [path for path in catalogue.paths if path.rpartition("/")[2] == text.rpartition("/")[2]]
                ends = {_tail(path, text): path for path in catalogue.paths}
                near = [_tail(one, text) for one in same] or difflib.get_close_matches(text, ends, 1)
                yield Problem(
                    ERROR,
                    "path",
                    path,
                    sheet.name,
                    sheet.ids[row],
                    name,
                    f"the game has no {text}",
                    near[0] if near else "a path of a file",
                )


def _tail(path: str, like: str) -> str:
    """As much of a path's end as another has parts."""
    return "/".join(path.split("/")[-1 - like.count("/") :])


def _lengths(catalogue: Catalogue, path: str, sheet: Sheet) -> Iterator[Problem]:
    for spot, most in catalogue.meanings.lengths:
        if not spot.is_file(path) or not spot.is_sheet(sheet):
            continue
        for name in spot.fields(sheet):
            for row, text in enumerate(sheet.columns[name].texts()):
                if text is not None and len(text) > most:
                    yield Problem(
                        WARNING,
                        "length",
                        path,
                        sheet.name,
                        sheet.ids[row],
                        name,
                        f"{len(text)} characters, there is room for {most}",
                        "a shorter text",
                    )


def _fonts(catalogue: Catalogue, path: str, sheet: Sheet, glyphs: dict[str, frozenset[str]]) -> Iterator[Problem]:
    for pattern, spot in catalogue.meanings.fonts:
        if not fits(path, pattern):
            continue
        if pattern not in glyphs:
            glyphs[pattern] = frozenset("".join(_all_texts(catalogue, spot)))
        known = glyphs[pattern]
        for name, column in sheet.columns.items():
            if column.rule.value_type != TEXT or column.rule.role not in ("text", "value") or not known:
                continue
            for row, text in enumerate(column.texts()):
                missing = sorted({text for text in text or "" if text not in known and not text.isspace()})
                if missing:
                    yield Problem(
                        ERROR,
                        "font",
                        path,
                        sheet.name,
                        sheet.ids[row],
                        name,
                        f"the game's font has no {' '.join(missing)}",
                        "other characters, or a font that has them",
                    )


def _all_texts(catalogue: Catalogue, spot: Spot) -> Iterator[str]:
    for _, sheet in catalogue.sheets(spot):
        for name in spot.fields(sheet):
            yield from (text for text in sheet.columns[name].texts() if text)


def _placeholders(language: str, path: str, sheet: Sheet) -> Iterator[Problem]:
    """Texts of one id have the same placeholders in every language."""
    for row_id, record in by_key(sheet).items():
        original = record.get(language) or next(iter(record.values()))
        for other, (row, field, text) in record.items():
            lacking, too_many = difference(original[2], text)
            if lacking or too_many:
                said = [*(f"lacks {text}" for text in lacking), *(f"has {text} too many" for text in too_many)]
                yield Problem(
                    ERROR,
                    "placeholder",
                    path,
                    sheet.name,
                    sheet.ids[row],
                    field,
                    f"{other or row_id} {' and '.join(said)}: the original is {original[2]!r}",
                    "the placeholders of the original",
                )


def by_key(sheet: Sheet) -> dict[str, dict[str, tuple[int, str, str]]]:
    """Texts by id and language: the row, the field, the text."""
    texts = [column for column in sheet.columns.values() if column.rule.role == "text"]
    found: dict[str, dict[str, tuple[int, str, str]]] = {}
    long = len(sheet.id) > 1
    for column in texts:
        for row, (row_id, text) in enumerate(zip(sheet.ids, column.texts(), strict=True)):
            if text is not None:
                head, _, language = row_id.rpartition(JOINED) if long else (row_id, "", column.name)
                found.setdefault(head, {})[language] = (row, column.name, text)
    return found


def _versions(catalogue: Catalogue, path: str, document: Document) -> Iterator[Problem]:
    for spot, game in catalogue.meanings.versions:
        if not spot.is_file(path):
            continue
        wanted = next(iter(_all_texts(catalogue, game)), None)
        for sheet in document.sheets:
            if wanted is None or not spot.is_sheet(sheet):
                continue
            for name in spot.fields(sheet):
                for row, text in enumerate(sheet.columns[name].texts()):
                    text = text.strip('"') if text is not None else None  # a text in JSON that looks like a number
                    if text is not None and _version(text) != _version(wanted):
                        yield Problem(
                            ERROR,
                            "version",
                            path,
                            sheet.name,
                            sheet.ids[row],
                            name,
                            f"for version {text}, the game is {wanted}",
                            wanted,
                        )


def game_version(catalogue: Catalogue) -> str:
    """The game's version, as the field says that its description names for versions; empty for none."""
    for _, game in catalogue.meanings.versions:
        found = next(iter(_all_texts(catalogue, game)), None)
        if found is not None:
            return found.strip('"')
    return ""


def _version(text: str) -> str:
    """The part of a version that must be the same: its first two numbers."""
    return ".".join(text.split(".")[:2])
