"""The elements of an XML file, with where each stands: found by expat in one pass over the bytes."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from xml.parsers import expat

from volvex.data.budget import Budget
from volvex.errors import FormatError

STEP = 1 << 20
IDS = ("id", "key", "name")  # attributes and elements that identify a record
NAMELESS = "the text"  # the file, where only its bytes are known
DEEPEST = 200  # elements within each other
_TAG = re.compile(rb"""(?:[^>"']++|"[^"]*+"|'[^']*+')*+>""")
_DOCTYPE = re.compile(rb"<!DOCTYPE[^\[>]*(\[.*?\]\s*)?>", re.S)


@dataclass(slots=True)
class Element:
    """An element with nothing left out: for the one that is looked at, or rewritten."""

    tag: str
    attributes: dict[str, str]
    start: int
    close: int = -1  # where its end tag starts, or where it ends when it has none
    end: int = -1
    text: str = ""
    children: list[Element] = field(default_factory=list)


def parse(parser: expat.XMLParserType, data: bytes, file: str) -> None:
    try:
        for at in range(0, max(1, len(data)), STEP):
            parser.Parse(bytes(data[at : at + STEP]), False)
        parser.Parse(b"", True)
    except expat.ExpatError as error:
        raise FormatError(
            file,
            f"line {error.lineno}, column {error.offset + 1}: {expat.ErrorString(error.code)}",
            hint="mending it in an editor",
        ) from error


def tree_of(data: bytes, file: str, stop: bool = False) -> Element:
    """All elements. With `stop` only the first one in the text, whatever follows it."""
    parser = expat.ParserCreate("utf-8")
    parser.buffer_text = True
    opened: list[Element] = []
    roots: list[Element] = []
    budget = Budget(file)

    def start(tag: str, attributes: dict[str, str]) -> None:
        budget.spend(1 + len(attributes))
        element = Element(tag, attributes, parser.CurrentByteIndex)
        (opened[-1].children if opened else roots).append(element)
        opened.append(element)
        if len(opened) > DEEPEST:
            raise FormatError(file, f"elements nested more than {DEEPEST} deep", hint="another program")

    def end(tag: str) -> None:
        element = opened.pop()
        element.close = parser.CurrentByteIndex
        if not opened and stop:
            raise _Done

    def characters(chunk: str) -> None:
        if opened and not opened[-1].children:
            opened[-1].text += chunk

    parser.StartElementHandler, parser.EndElementHandler, parser.CharacterDataHandler = start, end, characters
    try:
        parse(parser, data, file)
    except _Done:
        pass
    return roots[0]


class _Done(Exception):
    """Enough was seen."""


def fragment(data: bytes, start: int, file: str, prefix: bytes | None = None) -> Element:
    """The element that starts at a place, with where it ends; places count from the start of the file.

    `prefix` is the document type that tells entities, when it is not in `data`.
    """
    prefix = doctype(data) if prefix is None else prefix
    size = 1 << 14
    while True:
        try:
            element = tree_of(prefix + bytes(data[start : start + size]), file, stop=True)
            break
        except (FormatError, IndexError):
            if start + size >= len(data):
                raise
            size *= 8
    _move(element, start - len(prefix))
    element.end = end_of(data, element)
    return element


def doctype(data: bytes) -> bytes:
    """A file's document type, which may tell entities; nothing when it has none."""
    match = _DOCTYPE.search(bytes(data[: 1 << 16]))
    return match[0] if match is not None else b""


def _move(element: Element, by: int) -> None:
    element.start, element.close = element.start + by, element.close + by
    for child in element.children:
        _move(child, by)


def end_of(data: bytes, element: Element) -> int:
    tag = tag_of(data, element)
    if tag.endswith(b"/>"):
        return element.start + len(tag)
    end = bytes(data[element.close : element.close + 4096]).find(b">")
    if end < 0 or data[element.close : element.close + 2] != b"</":
        raise FormatError(
            NAMELESS,
            "this comes from an entity of the document type, into which no edit reaches",
            offset=element.close,
            hint="editing the file by hand, and `volvex swap`",
        )
    return end + element.close + 1


def tag_of(data: bytes, element: Element) -> bytes:
    """An element's start tag."""
    return tag_at(data, element.start)


def tag_at(data: bytes, start: int) -> bytes:
    """The start tag at a place: up to the first `>` outside quotes."""
    size = 4096
    while data[start : start + 1] == b"<":
        match = _TAG.match(bytes(data[start : start + size]))
        if match is not None:
            return match[0]
        if start + size >= len(data):
            break
        size *= 4
    raise FormatError(
        NAMELESS,
        "this comes from an entity of the document type, into which no edit reaches",
        offset=start,
        hint="editing the file by hand, and `volvex swap`",
    )
