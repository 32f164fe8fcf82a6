"""JSON by place (RFC 8259): the value of a member, with its type kept.

A record is an object whose `id`, `key` or `name` is the key, or the object that a member of that name
holds; a place is a path such as `bells/2` (lists count from 0). A field may go deeper: `lag/the_pans`.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from volvex.data.edit import Span, Target, choose, no_field
from volvex.errors import FormatError

KEYS = ("id", "key", "name")
_TOKEN = re.compile(r'\s*([{}\[\]:,]|"(?:[^"\\]|\\.)*"|[^\s{}\[\],:"]+)')


@dataclass
class _Node:
    start: int
    place: str
    shape: str  # object, list, string, number, word
    end: int = -1
    value: str = ""
    members: dict[str, _Node] = field(default_factory=dict)


def locate(text: str, target: Target, name: str, file: str) -> Span:
    """The span of a member's value."""
    try:
        json.loads(text)
    except ValueError as error:
        raise FormatError(file, f"not sound JSON: {error}", hint="mending it in an editor") from error
    nodes = list(_scan(text))
    node = _record(nodes, target, file)
    for part in name.strip("/").split("/"):
        if part not in node.members:
            raise no_field(part, Target(at=node.place or None) if target.row is None else target, node.members, file)
        node = node.members[part]
    if node.shape in ("object", "list"):
        raise no_field(f"{name} with a single value, it is {node.shape}", target, node.members, file)
    return Span(node.start, node.end, node.value, node.shape)


def _scan(text: str) -> Iterator[_Node]:
    """Every value of a sound JSON text, in the order in which it starts."""
    stack: list[_Node] = []
    waiting: str | None = None
    for match in _TOKEN.finditer(text):
        token, start, end = match[1], match.start(1), match.end(1)
        if token in "}]":
            stack.pop().end = end
            continue
        if token in ":,":
            continue
        parent = stack[-1] if stack else None
        if parent is not None and parent.shape == "object" and waiting is None:
            waiting = str(json.loads(token))
            continue
        name = waiting if waiting is not None else str(len(parent.members)) if parent else ""
        node = _Node(start, f"{parent.place}/{name}".lstrip("/") if parent else "", _shape(token), end)
        waiting = None
        if parent is not None:
            parent.members[name] = node
        if token in "{[":
            stack.append(node)
        else:
            node.value = str(json.loads(token)) if token.startswith('"') else token
        yield node


def _shape(token: str) -> str:
    if token in ("{", "["):
        return "object" if token == "{" else "list"
    return "string" if token.startswith('"') else "word" if token in ("true", "false", "null") else "number"


def _record(nodes: list[_Node], target: Target, file: str) -> _Node:
    if target.row is not None:
        matches = [(node.place, index) for index, node in enumerate(nodes) if target.row in _names(node)]
        return nodes[choose(matches, target, [name for node in nodes for name in _names(node)], file)]
    if target.at is None:
        return nodes[0]
    wanted = target.at.strip("/")
    matches = [(node.place, index) for index, node in enumerate(nodes) if node.place == wanted]
    return nodes[choose(matches, target, [node.place for node in nodes[:5000]], file)]


def _names(node: _Node) -> list[str]:
    """The keys by which an object may be asked for."""
    if node.shape != "object":
        return []
    for key in KEYS:
        if key in node.members and node.members[key].shape in ("string", "number"):
            return [node.members[key].value]
    last = node.place.rpartition("/")[2]
    return [last] if last and not last.isdigit() else []


def encode(span: Span, value: str, file: str) -> str:
    """A value as JSON of the type that stood there; where nothing stood (null), of the type that it looks like."""
    if span.style == "string":
        return json.dumps(value, ensure_ascii=False)
    kind = _literal(value)
    if span.style == "number" and kind != "number":
        raise FormatError(
            file, f"{value!r} is not a number, as {span.value} is", hint="digits with a point, such as 4.5"
        )
    if span.style == "word" and span.value != "null" and value not in ("true", "false"):
        raise FormatError(file, f"{value!r} is neither true nor false", hint="true or false")
    return value if kind else json.dumps(value, ensure_ascii=False)


def _literal(value: str) -> str:
    if value in ("true", "false", "null"):
        return "word"
    return "number" if re.fullmatch(r"-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?", value) else ""
