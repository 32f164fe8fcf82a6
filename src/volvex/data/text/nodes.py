"""Trees of objects, lists and values, as JSON and property lists have them: their records, and edits by place.

A record is an object whose `id`, `key`, `name` or `filename` is its key, or a member that is an object beside others of its shape;
what is below it and in no other record are its fields, such as `lag/the_pans` or `languages/0`.
"""

from __future__ import annotations

import difflib
import functools
from abc import abstractmethod
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from volvex.archive.safe_names import quoted
from volvex.data.model.sheet import Change, Sheet, distinct
from volvex.data.text.document import UTF8, Encoding, Record, Splice, TextData, sheets_of
from volvex.errors import NotFoundError, UsageError

KEYS = ("id", "key", "name", "filename")
ROOT = "records"  # the sheet of what is in no named list
OBJECT, LIST = "object", "list"
DEEPEST = 200  # objects within each other


@dataclass(slots=True)
class Node:
    """A value: where it stands, what it is, and what is in it. `begin` is where its member begins, with its name."""

    start: int
    shape: str  # object, list, or what a single value is
    begin: int = -1
    end: int = -1
    value: str = ""
    members: dict[str, Node] = field(default_factory=dict)


class NodeData(TextData):
    """A file that is a tree of objects, lists and values."""

    def __init__(self, data: bytes, file: str, encoding: Encoding = UTF8) -> None:
        super().__init__(data, file, encoding)
        self.root = self.parse()
        self._nodes: dict[tuple[str, str], Node] = {}
        self._places: dict[str, tuple[str, str, str]] = {}
        self._sheets: list[Sheet] | None = None

    @abstractmethod
    def parse(self) -> Node:
        """The tree; FormatError when the text is not sound."""

    @abstractmethod
    def encoded(self, node: Node, change: Change) -> bytes:
        """A new value in the place of another, of the same type."""

    @abstractmethod
    def member(self, parent: Node, name: str, value: str) -> Splice:
        """A new member of an object, behind its last."""

    @abstractmethod
    def without(self, parent: Node, node: Node) -> Splice:
        """A member or element taken out, with what separates it from its neighbours."""

    @abstractmethod
    def behind(self, parent: Node, like: Node, text: bytes, name: str) -> Splice:
        """An element or member put behind another, separated as that is."""

    @abstractmethod
    def fragment(self, text: bytes) -> NodeData:
        """A piece of such a text as a file of its own."""

    @property
    def sheets(self) -> list[Sheet]:
        if self._sheets is None:
            found = list(_records(self.root))
            keys = distinct([f"{record.sheet}\0{record.key}" for record, _ in found])
            for key, (_, node) in zip(keys, found, strict=True):
                sheet, _, own = key.partition("\0")
                self._nodes[sheet, own] = node
            self._sheets = sheets_of(record for record, _ in found)
        return self._sheets

    def node(self, sheet: str, key: str) -> Node:
        """The object of a record."""
        if self.sheets and (sheet, key) in self._nodes:
            return self._nodes[sheet, key]
        raise NotFoundError(f"{self.file}: {sheet} has no row {key}")

    def at(self, place: str) -> tuple[str, str, str]:
        wanted = place.strip("/")
        if not self._places:
            for (sheet, key), node in ((key, self.node(*key)) for key in self._keys()):
                for path, here in self._walk(node):
                    self._places.setdefault(here, (sheet, key, path))
        if wanted not in self._places:
            near = difflib.get_close_matches(wanted, list(self._places)[:5000], 1)
            raise NotFoundError(
                f"{self.file}: there is no {place}", f"--at {near[0]}" if near else f"`volvex show {quoted(self.file)}`"
            )
        return self._places[wanted]

    def _keys(self) -> list[tuple[str, str]]:
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

    # writing

    def splices(self, changes: Sequence[Change]) -> list[Splice]:
        found = []
        for change in changes:
            if change.what == "set":
                found.append(self._set(self.node(change.sheet, change.key), change))
            elif change.what == "remove":
                node = self.node(change.sheet, change.key)
                found.append(self.without(self._parent(node), node))
            else:
                found.append(self._add(change))
        return found

    def _parent(self, node: Node) -> Node:
        found = self._above[id(node)][1]
        if found is None:
            raise UsageError(f"{self.file} is one record, which can be neither copied nor removed", "a record in it")
        return found

    def _set(self, record: Node, change: Change) -> Splice:
        parts = change.field.split("/")
        node, parent = record, record
        for number, part in enumerate(parts):
            if part not in node.members:
                if (
                    number == len(parts) - 1
                    and node.shape == OBJECT
                    and change.after is not None
                    and change.before is None
                ):
                    return self.member(node, part, change.after)
                known = list(node.members)
                near = difflib.get_close_matches(part, known, 1)
                raise NotFoundError(
                    f"{self.file}: row {change.key} has no field {change.field}; it has {', '.join(known[:12])}",
                    f"{near[0]}=..." if near else "",
                )
            node, parent = node.members[part], node
        if change.after is None:
            return self.without(parent, node)
        if node.shape in (OBJECT, LIST):
            raise NotFoundError(
                f"{self.file}: row {change.key} has no field {change.field} with a single value, it is {node.shape}"
            )
        return Splice(node.start, node.end, self.encoded(node, change))

    def _add(self, change: Change) -> Splice:
        like = self.node(change.sheet, change.like or self.sheet(change.sheet).keys[-1])
        text = bytes(self.data[like.start : like.end])
        document = self.fragment(text)
        has = dict(_fields(document.root))
        wanted: dict[str, str | None] = dict(change.fields)
        if not change.like:
            wanted |= {name: None for name in has if name not in wanted}
        edits = [
            Change("set", "", change.key, name, has[name].value if name in has else None, value)
            for name, value in wanted.items()
            if (has[name].value if name in has else None) != value
        ]
        for splice in sorted((document._set(document.root, edit) for edit in edits), key=lambda splice: -splice.start):
            text = text[: splice.start] + splice.new + text[splice.end :]
        return self.behind(self._parent(like), like, text, change.key.rpartition("/")[2])


def own_key(node: Node) -> str | None:
    """The key that an object tells of itself."""
    for name in KEYS:
        found = node.members.get(name)
        if node.shape == OBJECT and found is not None and found.shape not in (OBJECT, LIST) and found.value:
            return found.value
    return None


def _records(root: Node) -> Iterator[tuple[Record, Node]]:
    own = own_key(root) or ""
    record = Record(ROOT, own, own)
    record.cells = {name: node.value for name, node in _fields(root)}
    if record.cells or not root.members:
        yield record, root
    yield from _below(root, "", [own] if own else [])


def _below(node: Node, sheet: str, keys: list[str]) -> Iterator[tuple[Record, Node]]:
    """The records below an object or list, and those below them."""
    keyed = _keyed(node)
    for name, member in node.members.items():
        if member.shape not in (OBJECT, LIST):
            continue
        named = sheet if node.shape == LIST else f"{sheet}/{name}".strip("/")
        own = _record_key(keyed, name, member)
        if own is None:
            yield from _below(member, named, keys)
            continue
        group = named if keyed == OWN else sheet
        record = Record(group or ROOT, "/".join([*keys, own]), own)
        record.cells = {path: leaf.value for path, leaf in _fields(member)}
        yield record, member
        yield from _below(member, group, [*keys, own])


OWN, NAMES = "own", "names"


def _keyed(parent: Node) -> str:
    """By what the objects in something are known: by what they call themselves, or by their names in it.

    By their names where none calls itself anything, or where all are of one shape: they then are the records of one sheet.
    """
    if (
        parent.shape != OBJECT
        or not parent.members
        or any(member.shape != OBJECT for member in parent.members.values())
    ):
        return OWN
    objects = list(parent.members.values())
    if any(own_key(node) for node in objects):
        return NAMES if _one_shape(objects) else OWN
    held = [value for node in objects for value in node.members.values()]
    return (
        NAMES if not held or any(node.shape != OBJECT for node in held) else OWN
    )  # what holds objects alone is a group of them


def _one_shape(objects: Sequence[Node]) -> bool:
    """Whether objects have mostly the same members."""
    if len(objects) < 2:
        return False
    counts = Counter(name for node in objects for name in node.members)
    common = {name for name, count in counts.items() if 2 * count > len(objects)}
    single = any(member.shape not in (OBJECT, LIST) for member in objects[0].members.values())
    return single and all(
        2 * len(common & node.members.keys()) >= len(common | node.members.keys()) for node in objects
    )


def _record_key(keyed: str, name: str, node: Node) -> str | None:
    """The key of a record: its own, or its name; None for what is no record."""
    if node.shape != OBJECT:
        return None
    return name if keyed == NAMES else own_key(node)


def _fields(record: Node, before: str = "") -> Iterator[tuple[str, Node]]:
    """The single values of a record, by their paths in it."""
    keyed = _keyed(record)
    for name, member in record.members.items():
        path = f"{before}{name}"
        if member.shape not in (OBJECT, LIST):
            yield path, member
        elif _record_key(keyed, name, member) is None:
            yield from _fields(member, f"{path}/")
