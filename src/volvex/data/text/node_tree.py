"""Trees of objects, lists and values, and which objects in them are records.

A record is an object whose `id`, `key`, `name` or `filename` is its id, a member that is an object beside others of its
shape, or an object in a list of objects, which has a number where it has no id. Most records decide: one that lacks
fields is a sparse one.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from volvex.data.model.sheet import NUMBERED

IDS = ("id", "key", "name", "filename")
OBJECT, LIST = "object", "list"
OWN, NAMES, NUMBERS = "own", "names", "numbers"  # by what the objects in something are known
DEEPEST = 200  # objects within each other
MANY = 8  # objects with ids in one object that are a table whatever is in them


@dataclass(slots=True)
class Node:
    """A value: where it stands, what it is, and what is in it. `begin` is where its member begins, with its name."""

    start: int
    shape: str  # object, list, or what a single value is
    begin: int = -1
    end: int = -1
    value: str = ""
    members: dict[str, Node] = field(default_factory=dict)


def own_key(node: Node) -> str | None:
    """The id that an object tells of itself."""
    for name in IDS:
        found = node.members.get(name)
        if node.shape == OBJECT and found is not None and found.shape not in (OBJECT, LIST) and found.value:
            return found.value
    return None


def ways_known(root: Node) -> dict[int, str]:
    """By what the objects in each object and list are known, by the node's `id`.

    What stands at the same path of several records is decided for all of them: a record that lacks fields does not
    change how the others are read.
    """
    found: dict[int, str] = {id(root): OWN}
    waiting = [([root], False, False)]  # nodes of one path; whether they are records, or lie in records
    while waiting:
        nodes, are_records, inside = waiting.pop()
        for shape in (OBJECT, LIST):
            group = [node for node in nodes if node.shape == shape]
            if not group:
                continue
            known = _known_in_lists(group, inside) if shape == LIST else _known_in_objects(group, are_records)
            found |= dict.fromkeys(map(id, group), known)
            alike = shape == LIST or (known == NAMES and _are_alike(group))
            below: dict[str, list[Node]] = {}
            for node in group:
                for name, member in node.members.items():
                    if member.shape in (OBJECT, LIST):
                        below.setdefault("" if alike else name, []).append(member)
            for some in below.values():
                records = known != OWN or _most(some, lambda node: own_key(node) is not None)
                waiting.append((some, records, inside or records))
    return found


def _known_in_lists(lists: Sequence[Node], inside: bool) -> str:
    """By what the objects in lists are known: by their own ids where most have one, the rest by number."""
    members = [member for node in lists for member in node.members.values()]
    objects = [node for node in members if node.shape == OBJECT]
    if objects and _most(objects, lambda node: own_key(node) is not None):
        return NUMBERS
    return NUMBERS if objects and len(objects) == len(members) and not inside else OWN


def _known_in_objects(parents: Sequence[Node], are_records: bool) -> str:
    """By what the objects in objects are known: by what they call themselves, or by their names.

    By their names where none calls itself anything, or where most are of one shape: they then are the records of one
    sheet.
    """
    members = [(name, member) for parent in parents for name, member in parent.members.items()]
    objects = [member for _, member in members if member.shape == OBJECT]
    if not objects or (are_records and len(objects) < len(members)):
        return OWN
    if any(own_key(node) is not None for node in objects):
        named = sum(own_key(member) == name for name, member in members if member.shape == OBJECT)
        if 2 * len(objects) <= len(members):
            return OWN
        return NAMES if 2 * named > len(objects) or len(objects) >= MANY or _one_shape(objects) else OWN
    if len(objects) < len(members):
        return OWN
    held = [value for node in objects for value in node.members.values()]
    return (
        NAMES if not held or any(node.shape != OBJECT for node in held) else OWN
    )  # what holds objects alone is a group of them


def _are_alike(parents: Sequence[Node]) -> bool:
    """Whether the objects in some nodes are records of one kind, so that what is in them is decided for all
    together."""
    objects = [node for parent in parents for node in parent.members.values() if node.shape == OBJECT]
    return len(objects) >= MANY or _one_shape(objects)


def _most(nodes: Sequence[Node], test: Callable[[Node], bool]) -> bool:
    return 2 * sum(map(test, nodes)) > len(nodes)


def _one_shape(objects: Sequence[Node]) -> bool:
    """Whether most of some objects have mostly the same members, single values among them."""
    if len(objects) < 2:
        return False
    counts = Counter(name for node in objects for name in node.members)
    common = {name for name, count in counts.items() if 2 * count > len(objects)}

    def fits(node: Node) -> bool:
        single = any(member.shape not in (OBJECT, LIST) for member in node.members.values())
        return single and 2 * len(common & node.members.keys()) >= len(common | node.members.keys())

    return _most(objects, fits)


def record_key(known: str, name: str, node: Node) -> str | None:
    """The id of a record: its own, its name, or its number; None for what is no record."""
    if node.shape != OBJECT:
        return None
    if known == NAMES:
        return name
    return own_key(node) or (f"{NUMBERED}{name}" if known == NUMBERS else None)
