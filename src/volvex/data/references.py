"""Which fields hold the ids of which records, and following them through all files of a game.

A layout says `refers to lenses`; a game description says it for any file: `"rules/keepers.xml keeper lamp" =
"rules/lamps.xml lamp"`, or that a field is a `path` in the game. Files are patterns on the end of a path; a sheet or
field may be `*`.
"""

from __future__ import annotations

import fnmatch
import functools
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np

from volvex.data.meanings import Meanings, Spot
from volvex.data.model.sheet import JOINED, Array, Document, Sheet
from volvex.data.path_index import PathIndex
from volvex.errors import VolvexError


class Catalogue:
    """The data of a game by path, opened when it is asked for. `read` gives the document of a path, None when it is
    none."""

    def __init__(
        self,
        paths: Iterable[str] | Callable[[], Iterable[str] | PathIndex],
        read: Callable[[str], Document | None],
        meanings: Meanings,
    ) -> None:
        self._paths, self._read, self.meanings = paths, read, meanings
        self._documents: dict[str, Document | None] = {}
        self.faults: dict[str, VolvexError] = {}  # files that cannot be opened

    @functools.cached_property
    def index(self) -> PathIndex:
        """All paths, listed when somebody asks: that may mean opening every archive of a game."""
        paths = self._paths() if callable(self._paths) else self._paths
        return paths if isinstance(paths, PathIndex) else PathIndex(paths)

    @property
    def paths(self) -> list[str]:
        """All paths in their order."""
        return self.index.paths

    def document(self, path: str) -> Document | None:
        """The document of a path; None when it is none, or damaged (then it is among `faults`)."""
        if path not in self._documents:
            try:
                document = self._documents[path] = self._read(path)
                if document is not None:
                    document.sheets  # noqa: B018  (read now, so that what is wrong with it is known)
            except VolvexError as error:
                self._documents[path] = None
                self.faults[path] = error
        return self._documents[path]

    def has(self, text: str) -> bool:
        """Whether a path that stands in a file leads somewhere: in any archive, as games look through all of theirs."""
        path = text.replace("\\", "/").strip("/")
        return any(f"/{text}".endswith(f"/{path}") for text in self.index.by_name.get(path.rpartition("/")[2], []))

    def put(self, path: str, document: Document) -> None:
        """Use a document that is open already."""
        self._documents[path] = document

    def data(self) -> list[str]:
        """The paths that the game description says are data."""
        return self._data if self.meanings.data else []

    @functools.cached_property
    def _data(self) -> list[str]:
        """The same, looked for once: each field that refers to something asks."""
        return self.index.matching_any(self.meanings.data)

    def near(self, path: str) -> list[str]:
        """Where the records may be to which a file refers: what is data, and what lies beside it."""
        return list(dict.fromkeys([path, *self.data(), *self.index.beside(path.rpartition("/")[0])]))

    def sheets(self, spot: Spot) -> Iterator[tuple[str, Sheet]]:
        """The sheets that a spot means, with the paths of their files."""
        for path in self.index.matching(spot.file):
            document = self.document(path)
            yield from ((path, sheet) for sheet in (document.sheets if document else ()) if spot.is_sheet(sheet))

    def targets(self, path: str, sheet: Sheet, name: str) -> list[tuple[str, Sheet]] | None:
        """Where the ids lead that a field holds; None when it holds none."""
        for reference in self.meanings.references:
            if (
                reference.target is not None
                and reference.source.is_file(path)
                and reference.source.is_sheet(sheet)
                and fnmatch.fnmatchcase(name, reference.source.field)
            ):
                return list(self.sheets(reference.target))
        refers = sheet.columns[name].rule.refers
        if not refers:
            return None
        own = self.document(path)
        found = [(path, sheet) for sheet in (own.sheets if own else ()) if refers in (sheet.name, sheet.group)]
        if found:
            return found
        for other in self.near(path):
            document = self.document(other)
            found += [
                (other, sheet) for sheet in (document.sheets if document else ()) if refers in (sheet.name, sheet.group)
            ]
        return found

    def is_path(self, path: str, sheet: Sheet, name: str) -> bool:
        """Whether a field holds paths of the game."""
        return any(
            reference.target is None
            and reference.source.is_file(path)
            and reference.source.is_sheet(sheet)
            and fnmatch.fnmatchcase(name, reference.source.field)
            for reference in self.meanings.references
        )

    def names(self, path: str, sheet: Sheet, name: str) -> list[str]:
        """The sheets to whose ids a field refers, by name."""
        targets = self.targets(path, sheet, name) or []
        return [text for _, sheet in targets for text in (sheet.name, sheet.group)]


def lookup(targets: Sequence[tuple[str, Sheet]], row_id: str) -> list[tuple[str, Sheet, int]]:
    """The records of an id among some sheets; of texts with several languages, each."""
    found = []
    for path, sheet in targets:
        row = sheet.row(row_id)
        if row is not None:
            found.append((path, sheet, row))
        elif len(sheet.id) > 1:
            found += [(path, sheet, at) for at in sheet.heads.get(row_id, [])]
    return found


def is_there(targets: Sequence[tuple[str, Sheet]], row_id: str) -> bool:
    """Whether any sheet has an id."""
    return bool(lookup(targets, row_id))


@dataclass
class Found:
    """A record, the fields by which it was reached, and the records to which it refers in its turn."""

    path: str
    sheet: Sheet
    row: int
    by: str = ""
    below: list[Found] = field(default_factory=list)
    missing: list[tuple[str, str]] = field(default_factory=list)  # fields that lead nowhere, and what they hold
    again: bool = False  # it stands further up already

    @property
    def place(self) -> tuple[str, str, int]:
        return self.path, self.sheet.name, self.row


def follow(catalogue: Catalogue, path: str, sheet: Sheet, row: int, depth: int = 4) -> Found:
    """A record and, below it, those to which it refers."""
    return _follow(catalogue, Found(path, sheet, row), depth, set())


def _follow(catalogue: Catalogue, found: Found, depth: int, seen: set[tuple[str, str, int]]) -> Found:
    if found.place in seen:
        found.again = True
        return found
    seen.add(found.place)
    if not depth:
        return found
    for name, row_id in found.sheet.record(found.row).items():
        targets = catalogue.targets(found.path, found.sheet, name) if row_id else None
        if targets is None or _nothing(row_id):
            continue
        hits = lookup(targets, row_id)
        if not hits:
            found.missing.append((name, row_id))
        found.below += [_follow(catalogue, Found(*hit, by=name), depth - 1, seen) for hit in hits]
    return found


def _nothing(row_id: str) -> bool:
    """What stands for no reference: nothing, 0 and -1."""
    return row_id in ("", "0", "-1", "none", "null")


@dataclass(frozen=True)
class User:
    """A record that refers to another, and by which field."""

    path: str
    sheet: str
    id: str
    field: str


def users(catalogue: Catalogue, path: str, sheet: Sheet, ids: Sequence[str]) -> Iterator[User]:
    """The records that refer to some ids of a sheet, in all that is data."""
    wanted = {*ids, *(row_id.partition(JOINED)[0] for row_id in ids if len(sheet.id) > 1)}
    for other in catalogue.near(path):
        document = catalogue.document(other)
        for one in document.sheets if document else ():
            for name, column in one.columns.items():
                cells = column.values
                hits = _holding(cells, wanted)
                if not hits or (other, one.name, name) == (path, sheet.name, (sheet.id or ("",))[0]):
                    continue
                targets = catalogue.targets(other, one, name)
                if targets is None or not any((file, found.name) == (path, sheet.name) for file, found in targets):
                    continue
                yield from (User(other, one.name, one.ids[row], name) for row in hits)


def _holding(cells: Array, wanted: set[str]) -> list[int]:
    """The rows whose cell is one of some texts."""
    if cells.dtype.kind in "iu":
        numbers = [int(text) for text in wanted if text.lstrip("-").isdigit() and abs(int(text)) < 1 << 63]
        return np.flatnonzero(np.isin(cells, numbers)).tolist() if numbers else []
    if cells.dtype.kind == "f":
        return []
    return [row for row, cell in enumerate(cells.tolist()) if cell is not None and str(cell) in wanted]
