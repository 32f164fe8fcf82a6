"""Lines in a list that the game and others keep, too: an XML file with an element for each add-on.

Only our own lines are put in and taken out again; every other byte stays as it is, also when others change the file
meanwhile.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from volvex.data.text.document import decoded
from volvex.data.text.formats._xml_tree import end_of, tag_of, tree_of
from volvex.errors import FormatError

LARGEST = 1 << 26  # bytes of a list
_INDENT = re.compile(rb"\n([ \t]*)\S[^\n]*\n[ \t]*$")


@dataclass(frozen=True)
class ListLines:
    """Elements that are to be in a list, each as a line of XML."""

    lines: tuple[str, ...]


def with_lines(data: bytes, lines: Sequence[str], name: str) -> bytes:
    """A list with these elements at the end of its root element, each on a line of its own; those that are there stay
    where they are.

    FormatError when it is no XML, or has no root element that an element can be put into.
    """
    mark, encoding, text = decoded(data, name)
    there = {line.strip() for line in text.split(b"\n")}
    missing = [line for line in lines if line.encode() not in there]
    if not missing:
        return data
    root = tree_of(text, name)
    end, newline = end_of(text, root), b"\r\n" if b"\r\n" in text else b"\n"
    if tag_of(text, root).endswith(b"/>"):
        head, tail = text[: end - 2].rstrip() + b">", b"</" + root.tag.encode() + b">" + text[end:]
    else:
        head, tail = text[: root.close], text[root.close :]
    found = _INDENT.search(head)
    indent = found[1] if found is not None and root.children else b"  "
    outer = head[len(head.rstrip(b" \t")) :] if head.rstrip(b" \t").endswith(b"\n") else b""
    head = head[: len(head) - len(outer)] if head.rstrip(b" \t").endswith(b"\n") else head + newline
    body = b"".join(indent + line.encode() + newline for line in missing)
    made = head + body + outer + tail
    tree_of(made, name)  # it must still be XML, whatever the lines are
    return mark + _encoded(made, encoding)


def without_lines(data: bytes, lines: Sequence[str], name: str) -> bytes:
    """A list without these elements, as far as each is there on a line of its own."""
    mark, encoding, text = decoded(data, name)
    ours = {line.encode() for line in lines}
    left = [line for line in text.splitlines(keepends=True) if line.strip() not in ours]
    return mark + _encoded(b"".join(left), encoding)


def _encoded(text: bytes, encoding: str) -> bytes:
    return text if encoding == "utf-8" else text.decode().encode(encoding)


def read_list(path: Path) -> bytes:
    """A list, when it is of a size that a list has."""
    if path.stat().st_size > LARGEST:
        raise FormatError(path, f"a list of more than {LARGEST >> 20} MB", hint="another way: --way replace")
    return path.read_bytes()
