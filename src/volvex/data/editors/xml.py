"""XML by place: attributes, and the text of elements that hold nothing else.

Expat finds where each element stands; the bytes around a value are never touched. A record is an element
whose `id`, `key` or `name` is the key; a place is a path such as `lamps/lamp[3]`, counted from 1.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from xml.parsers import expat

from volvex.data.edit import Span, Target, choose, no_field
from volvex.errors import FormatError

KEYS = ("id", "key", "name")
_ATTRIBUTE = re.compile(r"""\s([^\s=<>"'/]+)\s*=\s*("[^"]*"|'[^']*')""")
_BAD = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff\ud800-\udfff]")


@dataclass
class _Element:
    tag: str
    place: str
    attributes: dict[str, str]
    start: int  # of its start tag, in bytes of the UTF-8 text
    close: int = -1  # of its end tag
    text: str = ""
    children: list[_Element] = field(default_factory=list)
    counts: dict[str, int] = field(default_factory=dict)


def locate(text: str, target: Target, name: str, file: str) -> Span:
    """The span of an attribute's value, or of a child element's text."""
    data = text.encode()
    elements = _parse(data, file)
    if target.row is None and target.at is None and "/" in name:
        place, _, name = name.rpartition("/")
        target = Target(at=place)
    element = _record(elements, target, file)
    name = name.removeprefix("@")
    if name in element.attributes:
        return _attribute(data, element, name)
    for child in element.children:
        if child.tag == name and not child.children:
            return _content(data, child)
    fields = [*element.attributes, *(child.tag for child in element.children if not child.children)]
    raise no_field(name, Target(at=element.place) if target.row is None else target, fields, file)


def _parse(data: bytes, file: str) -> list[_Element]:
    """All elements in the order of their start tags."""
    parser = expat.ParserCreate("utf-8")
    elements: list[_Element] = []
    open_ones: list[_Element] = []

    def start(tag: str, attributes: dict[str, str]) -> None:
        place = tag
        if open_ones:
            parent = open_ones[-1]
            parent.counts[tag] = parent.counts.get(tag, 0) + 1
            place = f"{parent.place}/{tag}[{parent.counts[tag]}]"
        element = _Element(tag, place, attributes, parser.CurrentByteIndex)
        if open_ones:
            open_ones[-1].children.append(element)
        elements.append(element)
        open_ones.append(element)

    def end(tag: str) -> None:
        open_ones.pop().close = parser.CurrentByteIndex

    def characters(chunk: str) -> None:
        if open_ones:
            open_ones[-1].text += chunk

    parser.StartElementHandler, parser.EndElementHandler, parser.CharacterDataHandler = start, end, characters
    try:
        parser.Parse(data, True)
    except expat.ExpatError as error:
        raise FormatError(file, f"line {error.lineno}, column {error.offset + 1}: {expat.ErrorString(error.code)}",
                          hint="mending it in an editor") from error  # fmt: skip
    return elements


def _record(elements: list[_Element], target: Target, file: str) -> _Element:
    if target.row is not None:
        matches = [(one.place, index) for index, one in enumerate(elements) if _key(one) == target.row]
        return elements[choose(matches, target, [_key(one) for one in elements], file)]
    if target.at is None:
        return elements[0]
    wanted, root = _normal(target.at), elements[0].place
    matches = [
        (one.place, index) for index, one in enumerate(elements) if _normal(one.place) in (wanted, f"{root}/{wanted}")
    ]
    return elements[choose(matches, target, [one.place for one in elements[:5000]], file)]


def _normal(place: str) -> str:
    return place.strip("/").replace("[1]", "")


def _key(element: _Element) -> str:
    return next((element.attributes[key] for key in KEYS if key in element.attributes), "")


def _attribute(data: bytes, element: _Element, name: str) -> Span:
    before = len(data[: element.start].decode())
    for match in _ATTRIBUTE.finditer(_tag(data, element)):
        if match[1] == name:
            return Span(before + match.start(2) + 1, before + match.end(2) - 1, element.attributes[name], match[2][0])
    raise AssertionError(f"expat saw {name}, the tag does not show it")


def _tag(data: bytes, element: _Element) -> str:
    """An element's start tag: up to the first `>` outside quotes."""
    match = re.compile(rb"""(?:[^>"']|"[^"]*"|'[^']*')*>""").match(data, element.start)
    assert match is not None
    return match[0].decode()


def _content(data: bytes, element: _Element) -> Span:
    tag = _tag(data, element)
    start = len(data[: element.start].decode()) + len(tag)
    if tag.endswith("/>"):
        return Span(start - 2, start, "", f"</{element.tag}>")
    end = len(data[: element.close].decode())
    return Span(start, end, element.text, ">")


def encode(span: Span, value: str, file: str) -> str:
    """A value as it stands in an attribute or in an element, special characters escaped."""
    if _BAD.search(value):
        raise FormatError(file, "a character that XML cannot hold", hint="leaving control characters out")
    value = value.replace("&", "&amp;").replace("<", "&lt;")
    if span.style.startswith("</"):
        return f">{value}{span.style}"
    if span.style in "\"'":
        value = (
            value.replace(span.style, "&quot;" if span.style == '"' else "&apos;")
            .replace("\n", "&#10;")
            .replace("\t", "&#9;")
        )
    return value
