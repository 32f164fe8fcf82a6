"""Property lists as XML: dictionaries, arrays and values with their types; every other byte stays."""

from __future__ import annotations

import base64
import re

from volvex.data.model.sheet import Change
from volvex.data.text.document import UTF8, Encoding, Splice
from volvex.data.text.formats._xml_tree import Element, fragment, tree_of
from volvex.data.text.formats.xml import _escaped, _indent
from volvex.data.text.node_edits import EMPTY, NodeData
from volvex.data.text.node_tree import LIST, OBJECT, Node
from volvex.errors import FormatError, UnfitError

PRIORITY = 10
_FORMS = {
    "integer": (re.compile(r"[+-]?\d+"), "digits"),
    "real": (re.compile(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?"), "a number such as 4.5"),
    "date": (re.compile(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ"), "a date such as 1874-11-02T16:00:00Z"),
}


def knows(data: bytes, kind: str, name: str) -> bool:
    """Whether this is a property list in XML; those in binary are in `data/model/binary_plist.py`."""
    return kind == "xml" and re.search(rb"<plist[\s>]", bytes(data[:1000])) is not None


def open(data: bytes, file: str, encoding: Encoding = UTF8) -> PlistData:
    """The document."""
    return PlistData(data, file, encoding)


class PlistData(NodeData):
    """A property list."""

    form = "plist"

    def parse(self) -> Node:
        root = tree_of(self.data, self.file)
        held = root.children[0] if root.tag == "plist" and root.children else root
        return self._node(fragment(self.data, held.start, self.file), held.start)

    def _node(self, element: Element, begin: int) -> Node:
        whole = element if element.end >= 0 else fragment(self.data, element.start, self.file)
        tag = element.tag
        if tag == "dict":
            node = Node(element.start, OBJECT, begin, whole.end, "{}")
            pairs = zip(element.children[::2], element.children[1::2], strict=False)
            if len(element.children) % 2 or any(head.tag != "key" for head, _ in pairs):
                raise FormatError(self.file, "a dict has a key for each value", offset=element.start)
            for row_id, value in zip(element.children[::2], element.children[1::2], strict=True):
                node.members[row_id.text] = self._node(value, row_id.start)
            return node
        if tag == "array":
            node = Node(element.start, LIST, begin, whole.end, "[]")
            node.members = {str(at): self._node(child, child.start) for at, child in enumerate(element.children)}
            return node
        text = tag if tag in ("true", "false") else element.text
        return Node(element.start, tag, begin, whole.end, text)

    def encoded(self, node: Node, change: Change) -> bytes:
        value = change.after or ""
        if node.shape in (OBJECT, LIST):
            return self.fresh(value)
        if node.shape in ("true", "false"):
            if value not in ("true", "false"):
                raise FormatError(
                    self.file, f"row {change.id}: {value!r} is neither true nor false", hint="true or false"
                )
            return f"<{value}/>".encode()
        if node.shape == "data" and not _is_base64(value):
            raise UnfitError(self.file, f"row {change.id}: {value!r} is no data", hint="base64, such as T2ls")
        form = _FORMS.get(node.shape)
        if form is not None and not form[0].fullmatch(value):
            raise UnfitError(self.file, f"row {change.id}: {value!r} is no {node.shape}", hint=form[1])
        return f"<{node.shape}>".encode() + _escaped(value, self.file) + f"</{node.shape}>".encode()

    def fresh(self, value: str) -> bytes:
        if value in EMPTY:
            return b"<dict/>" if value == "{}" else b"<array/>"
        if value in ("true", "false"):
            return f"<{value}/>".encode()
        tag = next((tag for tag in ("integer", "real") if _FORMS[tag][0].fullmatch(value)), "string")
        return f"<{tag}>".encode() + _escaped(value, self.file) + f"</{tag}>".encode()

    def wrapped(self, shape: str, name: str, inner: bytes) -> bytes:
        if shape == LIST:
            return b"<array>" + inner + b"</array>"
        return b"<dict><key>" + _escaped(name, self.file) + b"</key>" + inner + b"</dict>"

    def member(self, parent: Node, name: str, data: bytes) -> Splice:
        if not parent.members:
            return Splice(parent.start, parent.end, self.wrapped(parent.shape, name, data))
        last = list(parent.members.values())[-1]
        blank = bytes(self.data[_indent(self.data, last.begin) : last.begin])
        row_id = b"" if parent.shape == LIST else b"<key>" + _escaped(name, self.file) + b"</key>" + blank
        return Splice(last.end, last.end, blank + row_id + data)

    def without(self, parent: Node, first: Node, last: Node) -> Splice:
        return Splice(_indent(self.data, first.begin), last.end, b"")

    def behind(self, parent: Node, like: Node, text: bytes, name: str) -> Splice:
        blank = bytes(self.data[_indent(self.data, like.begin) : like.begin])
        row_id = b"<key>" + _escaped(name, self.file) + b"</key>" + blank if parent.shape == OBJECT else b""
        return Splice(like.end, like.end, blank + row_id + text)

    def fragment(self, text: bytes) -> PlistData:
        return PlistData(text, self.file)


def _is_base64(text: str) -> bool:
    try:
        base64.b64decode("".join(text.split()), validate=True)
    except ValueError:
        return False
    return True
