"""Files that are trees of objects, lists and values, as JSON and property lists are: their records and fields.

What is below a record and in no other one are its fields, such as `lag/the_pans` or `languages/0`; what is empty is one
too.
"""

from __future__ import annotations

import difflib
import functools
from abc import abstractmethod
from collections.abc import Iterator
from dataclasses import dataclass

from volvex.archive.safe_names import quoted
from volvex.data.model.sheet import Sheet, distinct
from volvex.data.text.document import UTF8, Encoding, Record, TextData, sheets_of
from volvex.data.text.node_tree import LIST, NAMES, OBJECT, Node, own_key, record_key, ways_known
from volvex.errors import NotFoundError, UsageError

ROOT = "records"  # the sheet of what is in no named list
HEAD = "head"  # the sheet of single values beside the records of a keyed table


class NodeReader(TextData):
    """A file that is a tree of objects, lists and values."""

    def __init__(self, data: bytes, file: str, encoding: Encoding = UTF8) -> None:
        super().__init__(data, file, encoding)
        self.root = self.parse()
        self._known = ways_known(self.root)
        self._nodes: dict[tuple[str, str], Node] = {}
        self._around: dict[tuple[str, str], tuple[str, str]] = {}  # of each record: the record that it is in
        self._places: dict[str, tuple[str, str, str]] = {}
        self._sheets: list[Sheet] | None = None
        self._emptied: set[tuple[str, str]] = (
            set()
        )  # ids of records, and what in them is to stay though nothing is in it

    @abstractmethod
    def parse(self) -> Node:
        """The tree; FormatError when the text is not sound."""

    @property
    def sheets(self) -> list[Sheet]:
        if self._sheets is None:
            found = list(self._records())
            ids = distinct([f"{one.record.sheet}\0{one.record.id}" for one in found])
            for row_id, one in zip(ids, found, strict=True):
                sheet, _, own = row_id.partition("\0")
                self._nodes[sheet, own] = one.node
                self._around[sheet, own] = one.around
            self._sheets = sheets_of(one.record for one in found)
        return self._sheets

    def node(self, sheet: str, row_id: str) -> Node:
        """The object of a record."""
        if self.sheets and (sheet, row_id) in self._nodes:
            return self._nodes[sheet, row_id]
        raise NotFoundError(f"{self.file}: {sheet} has no row {row_id}")

    def at(self, place: str) -> tuple[str, str, str]:
        wanted = place.strip("/")
        if not self._places:
            for (sheet, row_id), node in ((row_id, self.node(*row_id)) for row_id in self._ids()):
                for path, here in self._walk(node):
                    self._places.setdefault(here, (sheet, row_id, path))
        if wanted not in self._places:
            near = difflib.get_close_matches(wanted, list(self._places)[:5000], 1)
            raise NotFoundError(
                f"{self.file}: there is no {place}", f"--at {near[0]}" if near else f"`volvex show {quoted(self.file)}`"
            )
        return self._places[wanted]

    def _ids(self) -> list[tuple[str, str]]:
        assert self.sheets is not None
        return sorted(self._nodes, key=lambda one: -len(self._above[id(self._nodes[one])][0]))  # the innermost first

    @functools.cached_property
    def _above(self) -> dict[int, tuple[str, Node | None]]:
        """The place of each node, and what it is in."""
        found: dict[int, tuple[str, Node | None]] = {id(self.root): ("", None)}
        waiting = [self.root]
        while waiting:
            node = waiting.pop()
            path = found[id(node)][0]
            for name, member in node.members.items():
                found[id(member)] = (f"{path}/{name}".lstrip("/"), node)
            waiting.extend(node.members.values())
        return found

    def _walk(self, record: Node) -> Iterator[tuple[str, str]]:
        """What fields below a record begin with, and the places of what they are in."""
        before = self._above[id(record)][0]
        waiting = [("", record)]
        while waiting:
            path, node = waiting.pop()
            yield f"{path}/" if path else "", f"{before}/{path}".strip("/")
            waiting += [
                (f"{path}/{name}".lstrip("/"), member)
                for name, member in node.members.items()
                if member.shape in (OBJECT, LIST)
            ]

    def _records(self) -> Iterator[_Found]:
        own = own_key(self.root) or ""
        keyed = self._known[id(self.root)] == NAMES
        record = Record(HEAD if keyed else ROOT, own, own)
        record.cells = {name: node.value for name, node in self._fields(self.root)}
        if record.cells or not self.root.members:
            yield _Found(record, self.root, ("", ""))
        yield from self._below(self.root, "", [own] if own else [], (record.sheet, own))

    def _below(self, node: Node, sheet: str, ids: list[str], around: tuple[str, str]) -> Iterator[_Found]:
        """The records below an object or list, and those below them."""
        known = self._known[id(node)]
        for name, member in node.members.items():
            if member.shape not in (OBJECT, LIST):
                continue
            named = sheet if node.shape == LIST else f"{sheet}/{name}".strip("/")
            own = record_key(known, name, member)
            if own is None:
                yield from self._below(member, named, ids, around)
                continue
            group = sheet if known == NAMES else named
            record = Record(group or ROOT, "/".join([*ids, own]), own)
            record.cells = {path: leaf.value for path, leaf in self._fields(member)}
            yield _Found(record, member, around)
            yield from self._below(member, group, [*ids, own], (record.sheet, record.id))

    def _fields(self, record: Node, before: str = "") -> Iterator[tuple[str, Node]]:
        """The single values of a record, and what is empty, by their paths in it."""
        known = self._known[id(record)]
        for name, member in record.members.items():
            path = f"{before}{name}"
            if not member.members and (member.shape not in (OBJECT, LIST) or record_key(known, name, member) is None):
                yield path, member
            elif record_key(known, name, member) is None:
                yield from self._fields(member, f"{path}/")

    # writing

    def _parent(self, node: Node) -> Node:
        found = self._above[id(node)][1]
        if found is None:
            raise UsageError(f"{self.file} is one record, which can be neither copied nor removed", "a record in it")
        return found


@dataclass(frozen=True)
class _Found:
    """A record, its object, and the sheet and id of the record that it is in."""

    record: Record
    node: Node
    around: tuple[str, str]
