"""JSON (RFC 8259): values keep their types; a text that looks like another type is told in quotes."""

from __future__ import annotations

import json
import re

from volvex.data.budget import Budget
from volvex.data.model.sheet import Change
from volvex.data.text.document import UTF8, Encoding, Splice, utf8
from volvex.data.text.node_edits import EMPTY, NodeData
from volvex.data.text.node_tree import DEEPEST, LIST, OBJECT, Node
from volvex.errors import FormatError, UnfitError

PRIORITY = 30
STRING, NUMBER, WORD = "string", "number", "word"
_TOKEN = re.compile(rb'\s*([{}\[\]:,]|"(?:[^"\\]|\\.)*"|[^\s{}\[\],:"]+)')
_TEXT = re.compile(rb'"(?:[^"\\]|\\.)*+"')
_EMPTY = {OBJECT: "{}", LIST: "[]"}
_HALF = re.compile("[\ud800-\udfff]")
_NUMBER = re.compile(r"-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?")


def knows(data: bytes, kind: str, name: str) -> bool:
    """Whether this is JSON."""
    return kind == "json"


def open(data: bytes, file: str, encoding: Encoding = UTF8) -> JsonData:
    """The document."""
    return JsonData(data, file, encoding)


class JsonData(NodeData):
    """A JSON file."""

    form = "json"

    def parse(self) -> Node:
        _require_few(self.data, self.file)
        try:
            json.loads(utf8(self.data, self.file))
        except RecursionError as error:
            raise FormatError(self.file, "objects nested too deep", hint="another program") from error
        except ValueError as error:
            raise FormatError(self.file, f"not valid JSON: {error}", hint="mending it in an editor") from error
        return scanned(bytes(self.data))

    def as_told(self, before: str | None, after: str) -> str:
        text = before is not None and not literal(before) and before != "null"
        return _dumped(after) if text and (literal(after) or after in EMPTY) else after

    def encoded(self, node: Node, change: Change) -> bytes:
        if node.shape in (OBJECT, LIST) or (change.after in EMPTY and node.shape != STRING):
            return (change.after or "").encode()
        return _encoded(node.shape, node.value, change.after or "", self.file).encode()

    def fresh(self, value: str) -> bytes:
        return value.encode() if value in EMPTY else _encoded(WORD, "null", value, self.file).encode()

    def wrapped(self, shape: str, name: str, inner: bytes) -> bytes:
        return b"[" + inner + b"]" if shape == LIST else b"{" + _dumped(name).encode() + b": " + inner + b"}"

    def member(self, parent: Node, name: str, data: bytes) -> Splice:
        if parent.shape == OBJECT:
            data = _dumped(name).encode() + b": " + data
        if not parent.members:
            return Splice(parent.start + 1, parent.end - 1, data)
        last = list(parent.members.values())[-1]
        blank = bytes(self.data[_before(self.data, last.begin) : last.begin])
        return Splice(last.end, last.end, b"," + blank + data)

    def without(self, parent: Node, first: Node, last: Node) -> Splice:
        members = list(parent.members.values())
        start, end = (next(at for at, member in enumerate(members) if member is node) for node in (first, last))
        if start:
            return Splice(members[start - 1].end, last.end, b"")
        if end + 1 < len(members):
            return Splice(first.begin, members[end + 1].begin, b"")
        return Splice(parent.start + 1, parent.end - 1, b"")

    def behind(self, parent: Node, like: Node, text: bytes, name: str) -> Splice:
        blank = bytes(self.data[_before(self.data, like.begin) : like.begin])
        if parent.shape == OBJECT:
            text = _dumped(name).encode() + b": " + text
        return Splice(like.end, like.end, b"," + blank + text)

    def fragment(self, text: bytes) -> JsonData:
        return JsonData(text, self.file)


def _require_few(data: bytes, file: str) -> None:
    """TooLargeError when there are more values than can be held: counted before the first is made."""
    budget = Budget(file)
    if _count(data) > budget.left:  # what stands in texts counts as well: it is looked at only when it must be
        budget.spend(_count(_TEXT.sub(b"", bytes(data))))


def _count(data: bytes) -> int:
    whole = bytes(data)
    return sum(whole.count(one) for one in (b",", b"{", b"["))


def _before(data: bytes, start: int) -> int:
    """Where the blanks before something start."""
    while start and data[start - 1] in b" \t\r\n":
        start -= 1
    return start


def scanned(text: bytes) -> Node:
    """The tree of a sound JSON text."""
    stack: list[Node] = []
    root: Node | None = None
    waiting: tuple[str, int] | None = None
    for match in _TOKEN.finditer(text):
        token, start, end = match[1], match.start(1), match.end(1)
        if token in (b"}", b"]"):
            stack.pop().end = end
            continue
        if token in (b":", b","):
            continue
        parent = stack[-1] if stack else None
        if parent is not None and parent.shape == OBJECT and waiting is None:
            waiting = _text_in(token), start
            continue
        name, begin = waiting or (str(len(parent.members)) if parent else "", start)
        waiting = None
        shape = _shape(token)
        node = Node(start, shape, begin, end, _EMPTY.get(shape, ""))
        if parent is not None:
            parent.members[name] = node
        root = root or node
        if node.shape in (OBJECT, LIST):
            stack.append(node)
            if len(stack) > DEEPEST:
                raise FormatError("the text", f"objects nested more than {DEEPEST} deep", hint="another program")
        else:
            node.value = _told(_text_in(token)) if node.shape == STRING else token.decode()
    assert root is not None
    return root


def _text_in(token: bytes) -> str:
    """The text that a string in JSON stands for; of most it is what lies between the quotes."""
    return str(json.loads(token)) if b"\\" in token else token[1:-1].decode("utf-8", "surrogatepass")


def _shape(token: bytes) -> str:
    if token in (b"{", b"["):
        return OBJECT if token == b"{" else LIST
    return STRING if token.startswith(b'"') else WORD if token in (b"true", b"false", b"null") else NUMBER


def _dumped(text: str) -> str:
    """A text as JSON: as it is, but for halves of characters, which only an escape can write."""
    return _HALF.sub(lambda match: f"\\u{ord(match[0]):04x}", json.dumps(text, ensure_ascii=False))


def _told(text: str) -> str:
    """A text as a cell: in quotes when it would be taken for something else."""
    return _dumped(text) if literal(text) or text.startswith('"') or text in EMPTY else text


def literal(text: str) -> str:
    """What a text is taken for besides a text."""
    if text in ("true", "false", "null"):
        return WORD
    return NUMBER if _NUMBER.fullmatch(text) else ""


def _encoded(shape: str, before: str, value: str, file: str) -> str:
    """A value as JSON of the type that stood there; where nothing stood (null), of the type that it looks like."""
    quoted = _unquoted(value)
    if shape == STRING or quoted is not None:
        return _dumped(value if quoted is None else quoted)
    kind = literal(value)
    if shape == NUMBER and kind != NUMBER:
        raise UnfitError(file, f"{value!r} is not a number, as {before} is", hint=f"a number such as {before}")
    if shape == WORD and before != "null" and value not in ("true", "false"):
        raise UnfitError(file, f"{value!r} is neither true nor false", hint="true or false")
    return value if kind else _dumped(value)


def _unquoted(value: str) -> str | None:
    """The text that stands in quotes."""
    if len(value) > 1 and value[0] == value[-1] == '"':
        try:
            found = json.loads(value)
        except ValueError:
            return None
        return found if isinstance(found, str) else None
    return None
