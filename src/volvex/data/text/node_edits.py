"""Edits of files that are trees of objects, lists and values, by place: every byte that an edit does not concern
stays."""

from __future__ import annotations

import difflib
import functools
import itertools
from abc import abstractmethod
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass

from volvex.data.model.sheet import NUMBERED, Change
from volvex.data.text.document import UTF8, Encoding, Splice
from volvex.data.text.node_tree import LIST, OBJECT, Node, record_key
from volvex.data.text.nodes import HEAD, ROOT, NodeReader
from volvex.errors import NotFoundError

EMPTY = ("{}", "[]")  # how an object or list with nothing in it is told


class NodeData(NodeReader):
    """A file that is a tree of objects, lists and values, and can be edited."""

    complete = True

    def __init__(self, data: bytes, file: str, encoding: Encoding = UTF8) -> None:
        super().__init__(data, file, encoding)
        self._object_paths: dict[str, set[str]] = {}
        self._emptied: set[tuple[str, str]] = (
            set()
        )  # ids of records, and what in them is to stay though nothing is in it

    @abstractmethod
    def encoded(self, node: Node, change: Change) -> bytes:
        """A new value in the place of another, of the same type."""

    @abstractmethod
    def fresh(self, value: str) -> bytes:
        """A value where none was, of the type that it looks like."""

    @abstractmethod
    def wrapped(self, shape: str, name: str, inner: bytes) -> bytes:
        """An object or list with one member in it."""

    @abstractmethod
    def member(self, parent: Node, name: str, data: bytes) -> Splice:
        """A new member of an object or list, behind its last."""

    @abstractmethod
    def without(self, parent: Node, first: Node, last: Node) -> Splice:
        """Members or elements beside each other taken out, with what separates them from their neighbours."""

    @abstractmethod
    def behind(self, parent: Node, like: Node, text: bytes, name: str) -> Splice:
        """An element or member put behind another, separated as that is."""

    @abstractmethod
    def fragment(self, text: bytes) -> NodeData:
        """A piece of such a text as a file of its own."""

    def pieces(self, changes: Sequence[Change]) -> Iterator[bytes]:
        """The file with these changes, in pieces. What needs another change is made when that is there; records are
        taken out last."""
        removes = [change for change in changes if change.what == "remove"]
        now, later = self._sorted([change for change in changes if change.what != "remove"])
        if later and not now:
            raise NotFoundError(f"{self.file}: {later[0].sheet} has no place for row {later[0].id}")
        if not removes and not later:
            yield from self._pieces(changes)
            return
        self._emptied |= {
            (change.id, change.field) for change in changes if change.what == "set" and change.after in EMPTY
        }
        if not now:
            yield from self._pieces(removes)
            return
        document = type(self)(b"".join(self._pieces(now)), self.file, self.exactly)
        document._emptied = self._emptied
        yield from document.pieces([*later, *removes])

    def _sorted(self, changes: Sequence[Change]) -> tuple[list[Change], list[Change]]:
        """Changes that can be made now, and those that need others first or would meet them in one place."""
        now, later = list[Change](), list[Change]()
        made = set[tuple[int, tuple[tuple[str, str], ...]]]()
        rewritten = {
            (change.sheet, change.id)
            for change in changes
            if change.what == "set" and None in (change.before, change.after)
        }
        for change in changes:
            if change.what == "add":
                place = self._place(change)
                waits = place is None or self._record_of(place.parent) in rewritten
                if place is not None and place.beside is None and not waits:  # the others go behind the first one
                    waits = (id(place.parent), place.made) in made
                    made.add((id(place.parent), place.made))
            else:
                around = self._around.get((change.sheet, change.id), ("", "")) if self.sheets else ("", "")
                waits = around in rewritten and around != (change.sheet, change.id)
            (later if waits else now).append(change)
        return now, later

    def splices(self, changes: Sequence[Change]) -> list[Splice]:
        found = []
        sets: dict[tuple[str, str], list[Change]] = {}
        gone: dict[int, list[Node]] = {}  # by what they are in
        for change in changes:
            if change.what == "set":
                sets.setdefault((change.sheet, change.id), []).append(change)
            elif change.what == "remove":
                node = self.node(change.sheet, change.id)
                gone.setdefault(id(self._parent(node)), []).append(node)
            else:
                found.append(self._add(change))
        for record, some in sets.items():
            node = self.node(*record)
            if any(None in (change.before, change.after) for change in some):
                found.append(self._rewritten(node, some))
            else:
                found += [self._set(node, change) for change in some]
        return [*found, *self._removed(gone)]

    def _removed(self, gone: Mapping[int, Sequence[Node]]) -> Iterator[Splice]:
        """The splices that take records out; those in records that are taken out go with them."""
        all_gone = {id(node) for nodes in gone.values() for node in nodes}
        for nodes in gone.values():
            above = parent = self._parent(nodes[0])
            while id(above) not in all_gone and (next_ := self._above[id(above)][1]) is not None:
                above = next_
            if id(above) in all_gone:
                continue
            if len(nodes) == len(parent.members) and (holder := self._unneeded(parent)) is not None:
                yield self.without(self._parent(holder), holder, holder)
                continue
            for there, run in itertools.groupby(parent.members.values(), lambda node: id(node) in all_gone):
                some = list(run)
                if there:
                    yield self.without(parent, some[0], some[-1])

    def _unneeded(self, node: Node) -> Node | None:
        """What goes with the last record in a node: that node where it is in a record, and what holds nothing else;
        None when it stays."""
        row_id = self._record_of(node)
        record = self._nodes.get(row_id, self.root)
        if record is self.root:
            return None
        found = None
        while node is not record and (row_id[1], "/".join(self._between(record, node))) not in self._emptied:
            found, node = node, self._parent(node)
            if len(node.members) > 1:
                break
        return found

    def _record_of(self, node: Node) -> tuple[str, str]:
        """The sheet and id of the record that a node is, or is in."""
        above: Node | None = node
        while above is not None and id(above) not in self._keys_by_node:
            above = self._above[id(above)][1]
        return self._keys_by_node[id(above)] if above is not None else ("", "")

    @functools.cached_property
    def _keys_by_node(self) -> dict[int, tuple[str, str]]:
        return {id(node): row_id for row_id, node in self._nodes.items()}

    def _rewritten(self, record: Node, changes: Sequence[Change]) -> Splice:
        """The splice of a record in which fields come or go. An object or list goes with the last field in it."""
        going = [change.field for change in changes if change.after is None]
        left = {path for path, _ in self._fields(record)} - {*going}
        left |= {change.field for change in changes if change.after is not None} | {*self._inner(record)}
        document = self.fragment(bytes(self.data[record.start : record.end]))
        document = document._after([change for change in changes if None not in (change.before, change.after)])
        document = document._cut(going, left)
        objects = self._objects(changes[0].sheet)
        for change in changes:  # each may need what the one before it made
            if change.before is None and not (
                change.after in EMPTY and self._holder(document.root, change.field.split("/"))
            ):
                document = document._after([change], objects)
        return Splice(record.start, record.end, bytes(document.data))

    def _inner(self, record: Node, before: str = "") -> Iterator[str]:
        """The paths of the records in a record."""
        for name, member in record.members.items():
            if member.shape not in (OBJECT, LIST):
                continue
            if record_key(self._known[id(record)], name, member) is None:
                yield from self._inner(member, f"{before}{name}/")
            else:
                yield f"{before}{name}"

    def _set(self, record: Node, change: Change, objects: Collection[str] = ()) -> Splice:
        """The splice of a set. `objects`: paths that are objects in other records, for what is not there yet."""
        parts = change.field.split("/")
        node, parent = record, record
        for number, part in enumerate(parts):
            if part not in node.members:
                if number and not node.members and node.shape in (OBJECT, LIST) and change.after is not None:
                    return Splice(node.start, node.end, self._nested(parts, number, change.after, objects))
                fits = node.shape == OBJECT or (node.shape == LIST and part == str(len(node.members)))
                if fits and change.after is not None and change.before is None:
                    return self.member(node, part, self._nested(parts, number + 1, change.after, objects))
                known = list(node.members)
                near = difflib.get_close_matches(part, known, 1)
                raise NotFoundError(
                    f"{self.file}: row {change.id} has no field {change.field}; it has {', '.join(known[:12])}",
                    f"{near[0]}=..." if near else "",
                )
            node, parent = node.members[part], node
        if change.after is None:
            return self.without(parent, node, node)
        if node.members or (node.shape in (OBJECT, LIST) and change.after not in EMPTY):
            raise NotFoundError(
                f"{self.file}: row {change.id} has no field {change.field} with a single value, it is {node.shape}"
            )
        return Splice(node.start, node.end, self.encoded(node, change))

    def _nested(self, parts: Sequence[str], made: int, value: str, objects: Collection[str]) -> bytes:
        """A value in the objects and lists that it needs and that are not there yet: those from `made` on."""
        data = self.fresh(value)
        for number in range(len(parts) - 1, made - 1, -1):
            holder = "/".join(parts[:number])
            shape = LIST if parts[number] == "0" and holder not in objects else OBJECT
            data = self.wrapped(shape, parts[number], data)
        return data

    def _place(self, change: Change) -> _Place | None:
        """Where a new record goes; None where nothing is there yet that it could be in."""
        sheet = next((sheet for sheet in self.sheets if sheet.name == change.sheet), None)
        if sheet is None:
            return self._first_place(change)
        prefixes = ["", *(change.id[:end] for end in _slashes(change.id))]
        best = next((text for text in reversed(prefixes) if text in self._last[change.sheet]), None)
        if best is None:
            return self._in_other(change, sheet.ids[-1])
        beside = self._last[change.sheet][best]
        like = self._nodes.get((change.sheet, change.like)) if change.like else None
        if like is not None and self._parent(like) is self._parent(beside):
            beside = like
        return _Place(self._parent(beside), change.id[len(best) + 1 if best else 0 :], beside)

    @functools.cached_property
    def _last(self) -> dict[str, dict[str, Node]]:
        """For each sheet, the last record in each record (by its id)."""
        found: dict[str, dict[str, Node]] = {sheet.name: {} for sheet in self.sheets}
        for (sheet, row_id), node in self._nodes.items():
            found[sheet][self._around[sheet, row_id][1]] = node
        return found

    def _first_place(self, change: Change) -> _Place | None:
        """The place of the first record of a sheet: by the sheet's name, in the record that the id begins with, or in
        the file."""
        for end in [*reversed(_slashes(change.id)), -1]:
            for sheet in self.sheets if end >= 0 else [None]:
                holder = self.root if sheet is None else self._nodes.get((sheet.name, change.id[:end]))
                before = "" if sheet is None or sheet.name in (ROOT, HEAD) else f"{sheet.name}/"
                if holder is None or not change.sheet.startswith(before):
                    continue
                names = change.sheet.removeprefix(before).split("/")
                while names and names[0] in holder.members:
                    holder = holder.members[names.pop(0)]
                own = change.id[end + 1 :]
                shape = LIST if own in dict(change.fields).values() or own.startswith(NUMBERED) else OBJECT
                if not holder.members if not names else sheet is not None and holder.shape == OBJECT:
                    made = [(name, OBJECT) for name in names[:-1]] + [(name, shape) for name in names[-1:]]
                    return _Place(holder, own, None, tuple(made))
        return None

    def _in_other(self, change: Change, like: str) -> _Place | None:
        """The place of a new record in one that has none such yet: there where those of another one are."""
        around = self._around[change.sheet, like]
        if around not in self._nodes:
            return None
        node, holders = self._nodes[change.sheet, like], list[tuple[str, str]]()
        for name in self._between(self._nodes[around], node)[:-1]:
            holders.append((name, LIST))
        while (node := self._parent(node)) is not self._nodes[around]:
            at = len(self._between(self._nodes[around], node)) - 1
            holders[at] = holders[at][0], node.shape
        for end in reversed(_slashes(change.id)):
            holder = self._nodes.get((around[0], change.id[:end]))
            if holder is None:
                continue
            while holders and holders[0][0] in holder.members:
                holder = holder.members[holders.pop(0)[0]]
            return _Place(holder, change.id[end + 1 :], None, tuple(holders))
        return None

    def _between(self, above: Node, below: Node) -> list[str]:
        """The names that lead from one node to one in it."""
        start = self._above[id(above)][0]
        return self._above[id(below)][0][len(start) :].strip("/").split("/")

    def _holder(self, node: Node, names: Sequence[str]) -> Node | None:
        """The object or list that some names lead to."""
        found: Node | None = node
        for name in names:
            found = found.members.get(name) if found is not None else None
        return found if found is not None and found.shape in (OBJECT, LIST) else None

    def _add(self, change: Change) -> Splice:
        place = self._place(change)
        if place is None:
            raise NotFoundError(f"{self.file}: {change.sheet} has no place for row {change.id}")
        like = self.node(change.sheet, change.like) if change.like else place.beside
        text = bytes(self.data[like.start : like.end]) if like is not None else self.fresh("{}")
        document = self.fragment(text)
        wanted: dict[str, str | None] = dict(change.fields)
        if like is not None and not change.like:
            document = document._cut([path for path, _ in document._leaves()], wanted)
        has = dict(document._leaves() if like is None or not change.like else self._fields(like))
        objects = self._objects(change.sheet) if wanted.keys() - has.keys() else ()
        edits = [
            Change("set", "", change.id, name, has[name].value if name in has else None, value)
            for name, value in wanted.items()
            if (has[name].value if name in has else None) != value
        ]
        document = document._after([edit for edit in edits if edit.before is not None], objects)
        for edit in edits:  # each new one may need what the one before it made
            if edit.before is None:
                document = document._after([edit], objects)
        text, name = bytes(document.data), place.own
        if place.beside is not None:
            return self.behind(place.parent, place.beside, text, name)
        for holder, shape in reversed(place.made):
            text, name = self.wrapped(shape, name, text), holder
        return self.member(place.parent, name, text)

    def _after(self, edits: Sequence[Change], objects: Collection[str] = ()) -> NodeData:
        """This piece with some values set."""
        text = bytes(self.data)
        for splice in sorted((self._set(self.root, edit, objects) for edit in edits), key=lambda splice: -splice.start):
            text = text[: splice.start] + splice.new + text[splice.end :]
        return self.fragment(text) if edits else self

    def _cut(self, paths: Sequence[str], wanted: Collection[str]) -> NodeData:
        """This piece without what no wanted field is in: whole objects and lists where nothing of them is wanted."""
        kept = {path[:end] for path in wanted for end in (*_slashes(path), len(path))}
        document = self
        for path in reversed(paths):
            if path in wanted:
                continue
            parts = path.split("/")
            top = next((size for size in range(1, len(parts)) if "/".join(parts[:size]) not in kept), len(parts))
            parent, node = document.root, document.root
            for part in parts[:top]:
                if part not in node.members:  # it went with what it was in
                    break
                parent, node = node, node.members[part]
            else:
                gone = document.without(parent, node, node)
                text = bytes(document.data)
                document = document.fragment(text[: gone.start] + gone.new + text[gone.end :])
        return document

    def _leaves(self) -> Iterator[tuple[str, Node]]:
        """All single values of this piece, and what is empty, by their paths, whichever record they are in."""
        waiting = [(name, member) for name, member in reversed(self.root.members.items())]
        while waiting:
            path, node = waiting.pop()
            if node.members:
                waiting += [(f"{path}/{name}", member) for name, member in reversed(node.members.items())]
            else:
                yield path, node

    def _objects(self, sheet: str) -> set[str]:
        """The paths in the records of a sheet that are objects."""
        if sheet not in self._object_paths:
            self._object_paths[sheet] = self._found_objects(sheet)
        return self._object_paths[sheet]

    def _found_objects(self, sheet: str) -> set[str]:
        return {
            path.rstrip("/")
            for (name, _), node in self._nodes.items()
            if name == sheet
            for path, _ in self._walk(node)
            if path and (held := self._holder(node, path.rstrip("/").split("/"))) is not None and held.shape == OBJECT
        }


@dataclass(frozen=True)
class _Place:
    """Where a new record goes: into an object or list, behind a member of it, under its own id; in objects and lists
    that are made for it."""

    parent: Node
    own: str
    beside: Node | None = None
    made: tuple[tuple[str, str], ...] = ()  # names and shapes, from the outside


def _slashes(path: str) -> list[int]:
    return [at for at, one in enumerate(path) if one == "/"]
