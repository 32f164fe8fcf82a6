"""A new item from one of the game's: its records and files under a new id, with the references among them, and a new
title.

What belongs to an item is what bears its id: records whose id is that, or that and a word such as `name`; files whose
name without its extension, or one of whose folders, is that. What merely refers to it stays.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from volvex.archive.detect import filetypes
from volvex.bench.semantic_diff import catalogues
from volvex.bench.workbench import Workbench
from volvex.data import Change, Document, Sheet
from volvex.data.edit import fault_of, key_fields
from volvex.data.references import Catalogue
from volvex.data.verify import edited
from volvex.errors import NotFoundError, RefusedError, UsageError, VolvexError
from volvex.source import atomic

ID = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_.-]{0,63}")
TITLES = ("name", "title", "label", "caption", "display_name")
_WORDS = rf"(?:{'|'.join(TITLES)}|desc|description|text|info|icon|help)"
_LANGUAGE = re.compile(r"[a-z]{2,3}(?:[-_][A-Za-z]{2,4})?")


@dataclass
class Item:
    """What was made: changes of each file of data, files under new paths (old to new), and the pictures among them."""

    changes: dict[str, list[Change]] = field(default_factory=dict)
    files: dict[str, str] = field(default_factory=dict)
    pictures: list[str] = field(default_factory=list)


def new_item(bench: Workbench, path: str, row: str | None, new: str, titles: Mapping[str, str]) -> Item:
    """Write a new item into a bench. `path` is the data file with the record `row`, or a file that is the item itself,
    whose id is its name then. `titles` are by language; "" for all others.

    NotFoundError when there is no such thing; RefusedError when there is something of the new id already.
    """
    if not ID.fullmatch(new):
        raise UsageError(f"{new!r} is not an id", "--as with letters, digits and _")
    _, catalogue = catalogues(bench)
    old = row if row is not None else path.rpartition("/")[2].partition(".")[0]
    if path not in catalogue.paths:
        raise NotFoundError(f"not in the game: {path}", "`volvex find` with a part of the path")
    if row is not None:
        document = catalogue.document(path)
        if document is None:
            raise NotFoundError(f"{path} is not data of a known format", "without --row, for the file as a whole")
        document.find(row)
    made = _Making(catalogue, old, new, titles)
    item = made.item(path)
    _write(bench, made, item)
    return item


class _Making:
    def __init__(self, catalogue: Catalogue, old: str, new: str, titles: Mapping[str, str]) -> None:
        self.catalogue, self.old, self.new, self.titles = catalogue, old, new, titles
        self._own = re.compile(rf"(?<![A-Za-z0-9_]){re.escape(old)}(?![A-Za-z0-9_])")
        self._worded = re.compile(rf"(?<![A-Za-z0-9_]){re.escape(old)}(?=_{_WORDS}(?![A-Za-z0-9]))", re.I)

    def renamed(self, text: str) -> str:
        """An id or a path with the new id in place of the old one; the same where it has none."""
        return self._worded.sub(self.new, self._own.sub(self.new, text))

    def item(self, path: str) -> Item:
        item = Item()
        for text in self.catalogue.paths:
            if self._is_own_file(text) or (text == path and path.rpartition("/")[2].partition(".")[0] == self.old):
                item.files[text] = self._new_path(text)
        there = [new for new in item.files.values() if new in set(self.catalogue.paths)]
        if there:
            raise RefusedError(f"the game has a file {there[0]} already", "--as with another id")
        for text in dict.fromkeys([path, *self.catalogue.data()]):
            document = self.catalogue.document(text) if text not in item.files else None
            changes = list(self._records(text, document, item)) if document is not None else []
            if changes:
                item.changes[text] = changes
        return item

    def _is_own_file(self, path: str) -> bool:
        parts = path.split("/")
        return self.old in parts[:-1] or parts[-1].partition(".")[0] == self.old

    def _new_path(self, path: str) -> str:
        parts = path.split("/")
        name, dot, extension = parts[-1].partition(".")
        last = f"{self.new if name == self.old else name}{dot}{extension}"
        return "/".join([*(self.new if part == self.old else part for part in parts[:-1]), last])

    def _records(self, path: str, document: Document, item: Item) -> Iterator[Change]:
        """The records of a file that are the item's, as new ones."""
        for sheet in document.sheets:
            for row, row_id in enumerate(sheet.ids):
                wanted = self.renamed(row_id)
                if wanted == row_id:
                    continue
                if sheet.row(wanted) is not None:
                    raise RefusedError(f"{path}: {sheet.name} has a record {wanted} already", "--as with another id")
                yield Change(
                    "add",
                    sheet.name,
                    wanted,
                    fields=tuple(self._fields(document, sheet, row, wanted, item).items()),
                    like=row_id,
                )

    def _fields(self, document: Document, sheet: Sheet, row: int, row_id: str, item: Item) -> dict[str, str]:
        """The fields of a new record that are others than in the one that it is like."""
        record = key_fields(sheet, row_id, sheet.ids[row])
        paths = {self._inner(old): self._inner(new) for old, new in item.files.items()}
        for name, value in sheet.record(row).items():
            if name in record:
                continue
            wanted = self._title(sheet, name, value, row_id) or self._followed(value, paths)
            if wanted != value and fault_of(sheet.column(name, document.file), wanted, row_id, document.file) is None:
                record[name] = wanted
        return record

    def _inner(self, path: str) -> str:
        """A path as data name it: within its archive."""
        for name in self.catalogue.index.beside(""):
            if path.startswith(name + "/"):
                return path[len(name) + 1 :]
        parts = path.split("/")
        for at, part in enumerate(parts[:-1]):
            if "." in part:
                return "/".join(parts[at + 1 :])
        return path

    def _followed(self, value: str, paths: Mapping[str, str]) -> str:
        """A value that is the old id, or a path of a file that is copied, as it is for the new item."""
        plain = value.replace("\\", "/")
        for old, new in paths.items():
            if plain == old or old.endswith("/" + plain):
                return "/".join(new.split("/")[-plain.count("/") - 1 :])
        return self.new if value == self.old else value

    def _title(self, sheet: Sheet, name: str, value: str, row_id: str) -> str:
        """The title where a field has the item's name; empty where it has something else."""
        if not self.titles or not value:
            return ""
        last = re.split(r"[/.]", name)[-1].lower()
        language = last if _LANGUAGE.fullmatch(last) and last in self._languages(sheet) else ""
        if not language and last not in TITLES:
            return ""
        rest = row_id.partition(self.new)[2].strip("._/:@-").lower()
        if language and rest and rest not in TITLES:
            return ""
        return self.titles.get(language) or self.titles.get("", "")

    @staticmethod
    def _languages(sheet: Sheet) -> set[str]:
        """The columns of a sheet that are languages: several, each with a short name."""
        found = {name for name in sheet.columns if _LANGUAGE.fullmatch(name) and len(name) in (2, 5)}
        return found if len(found) > 1 else set()


def _write(bench: Workbench, made: _Making, item: Item) -> None:
    """Write the records and files into the bench: all are made before the first is put in its place."""
    data: dict[str, bytes] = {}
    for path, changes in item.changes.items():
        document = made.catalogue.document(path)
        assert document is not None
        data[path] = edited(document, changes, given=True)
    copies = {new: _copied(bench, made, old) for old, new in item.files.items()}
    for path, content in data.items():
        _, file = bench.open_for_edit(path)
        with atomic(bench.disk, file, durable=False) as out:
            bench.disk.write(out, content)
    for path, content in copies.items():
        place = bench.put_content(path, content)
        if filetypes.kind_by_content(content[: filetypes.HEAD]) in ("png", "jpeg", "gif", "webp", "bmp"):
            item.pictures.append(place)


def _copied(bench: Workbench, made: _Making, path: str) -> bytes:
    """A file of the item; where it is data, with the new id and title in it."""
    there = bench.files / path
    content = there.read_bytes() if there.is_file() else b"".join(bench.original_content(path))
    try:
        document = made.catalogue.document(path)
        changes = list(_values(document, made)) if document is not None else []
        return edited(document, changes) if document is not None and changes else content
    except VolvexError:
        return content


def _values(document: Document, made: _Making) -> Iterator[Change]:
    """The values of a copied file that name the item."""
    for sheet in document.sheets:
        for row, row_id in enumerate(sheet.ids):
            record: Sequence[tuple[str, str]] = list(sheet.record(row).items())
            for name, value in record:
                wanted = made._title(sheet, name, value, row_id) or made.renamed(value)
                if wanted != value and name not in sheet.id:
                    yield Change("set", sheet.name, row_id, name, value, wanted)
