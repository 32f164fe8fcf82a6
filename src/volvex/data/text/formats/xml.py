"""XML (1.0, fifth edition): attributes, and the text of elements that hold nothing else.

A record is an element whose `id`, `key` or `name` (an attribute, or an element in it) is its key, or one without an id
that repeats in no other record and has a number; all below it that is no record itself are its fields, such as
`hook/height` or `wick[2]/length`. Expat finds where each element stands, in one pass over the file which keeps only
what is asked for.
"""

from __future__ import annotations

import difflib
import re
from collections import Counter
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from xml.parsers import expat

from volvex.archive.safe_names import quoted
from volvex.data.excerpt import STEP, excerpts
from volvex.data.model.sheet import NUMBERED, Change, Document, Sheet, distinct
from volvex.data.text.document import UTF8, Encoding, Record, Splice, TextData, decoded, sheets_of
from volvex.data.text.formats._xml_tree import IDS, NAMELESS, Element, doctype, end_of, fragment, parse, tag_of, tree_of
from volvex.errors import FormatError, NotFoundError, UnfitError

PRIORITY = 20
TEXT = "text"  # the field that is the text of an element with attributes
LARGE = 1 << 24  # bytes from which on two states are compared only where they differ
_ATTRIBUTE = re.compile(rb"""\s([^\s=<>"'/]+)\s*=\s*("[^"]*"|'[^']*')""")
_BAD = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\ufffe\uffff\ud800-\udfff]")


def knows(data: bytes, kind: str, name: str) -> bool:
    """Whether this is XML."""
    return kind == "xml"


def open(data: bytes, file: str, encoding: Encoding = UTF8) -> XmlData:
    """The document."""
    return XmlData(data, file, encoding)


class XmlData(TextData):
    """An XML file."""

    form = "xml"

    def __init__(self, data: bytes, file: str, encoding: Encoding = UTF8) -> None:
        super().__init__(data, file, encoding)
        self._sheets: list[Sheet] | None = None
        self._starts: dict[tuple[str, str], int] = {}

    @property
    def sheets(self) -> list[Sheet]:
        if self._sheets is None:
            elements = tree_of(self.data, self.file)
            records = list(_records(elements))
            ids = distinct([f"{record.sheet}\0{record.id}" for record, _ in records])
            for row_id, (_, element) in zip(ids, records, strict=True):
                sheet, _, record_key = row_id.partition("\0")
                self._starts[sheet, record_key] = element.start
            self._sheets = sheets_of(record for record, _ in records)
        return self._sheets

    def find(self, row_id: str) -> tuple[Sheet, int]:
        """The record of an id: found in one pass that keeps nothing else, unless all is known already."""
        if self._sheets is not None:
            return super().find(row_id)
        hits = _hits(self.data, self.file, row_id)
        exact = [hit for hit in hits if hit.id == row_id and hit.own != row_id] or hits
        if len(exact) == 1:
            element = fragment(self.data, exact[0].start, self.file)
            if _id(element) == exact[0].own:  # and not a name that stands before the id
                record = _filled(Record(exact[0].sheet, exact[0].id, exact[0].own), element)
                (sheet,) = sheets_of([record])
                self._starts[record.sheet, record.id] = element.start
                return sheet, 0
        elif exact:
            starts = {hit.start for hit in exact}
            places = [
                record.place for record, element in _records(tree_of(self.data, self.file)) if element.start in starts
            ]
            raise NotFoundError(
                f"{self.file}: row {row_id} occurs {len(exact)} times: {', '.join(places[:4])}", f"--at {places[0]}"
            )
        return super().find(row_id)

    def at(self, place: str) -> tuple[str, str, str]:
        wanted = _normal(place)
        elements = tree_of(self.data, self.file)
        known = []
        for record, element in _records(elements):
            for path, _, attribute in [("", element, ""), *_below(element)]:
                if attribute:
                    continue
                here = _normal(f"{record.place}/{path}" if path else record.place)
                known.append(here)
                if wanted in (here, here.partition("/")[2]):
                    unique = next(row_id for row_id, start in self._known_starts().items() if start == element.start)
                    return *unique, f"{path}/" if path else ""
        near = difflib.get_close_matches(wanted, known[:5000], 1)
        raise NotFoundError(
            f"{self.file}: there is no {place}", f"--at {near[0]}" if near else f"`volvex show {quoted(self.file)}`"
        )

    def _known_starts(self) -> dict[tuple[str, str], int]:
        assert self.sheets is not None
        return self._starts

    def compared(self, data: bytes, changes: Sequence[Change]) -> tuple[Document, Document] | None:
        if len(data) <= LARGE:
            return super().compared(data, changes)
        if changes and all(change.what == "set" for change in changes):
            return _compared_records(self, data, changes)

        made = excerpts(self.raw, data, self.file)
        if made is None or len(made[1]) > LARGE:
            return None
        return XmlData(made[0], self.file, self.exactly), XmlData(made[1], self.file, self.exactly)

    # writing

    def splices(self, changes: Sequence[Change]) -> list[Splice]:
        try:
            return self._splices(changes)
        except FormatError as error:
            if error.file != NAMELESS:
                raise
            raise FormatError(self.file, error.problem, offset=error.offset, hint=error.hint) from error

    def _splices(self, changes: Sequence[Change]) -> list[Splice]:
        found: list[Splice] = []
        by_record: dict[tuple[str, str], list[Change]] = {}
        for change in changes:
            by_record.setdefault((change.sheet, change.id if change.what != "add" else change.like or ""), []).append(
                change
            )
        ends: dict[int, int] = {}
        for (sheet, row_id), some in by_record.items():
            added = [change for change in some if change.what == "add"]
            if added and not row_id:
                row_id = self.sheet(sheet).ids[-1]
            element = self.element(sheet, row_id)
            for one in some:
                if one.what == "set":
                    found.append(_set(self.data, element, one, self.file))
                elif one.what == "remove":
                    found.append(Splice(_indent(self.data, element.start), element.end, b""))
            for one in added:
                at = ends.setdefault(element.end, element.end)
                like = element if one.like else self.element(sheet, self.sheet(sheet).like(dict(one.fields)))
                found.append(Splice(at, at, self._copied_record(like, one)))
        return found

    def element(self, sheet: str, row_id: str) -> Element:
        """The element of a record."""
        start = self._starts.get((sheet, row_id))
        if start is None:
            start = self._known_starts().get((sheet, row_id))
        if start is None:
            raise NotFoundError(f"{self.file}: {sheet} has no row {row_id}")
        return fragment(self.data, start, self.file)

    def _copied_record(self, like: Element, change: Change) -> bytes:
        """A record that is like another, with other fields, and the blanks before it."""
        text = bytes(self.data[like.start : like.end])
        element = fragment(text, 0, self.file, doctype(self.data))
        has = {name: _value(found, attribute) for name, found, attribute in _fields(element)}
        wanted = dict(change.fields)
        if not change.like:
            wanted |= {name: None for name in has if name not in wanted}  # type: ignore[misc]
        splices = [
            _set(text, element, Change("set", change.sheet, change.id, name, has.get(name), value), self.file)
            for name, value in wanted.items()
            if has.get(name) != value
        ]
        for splice in sorted(splices, key=lambda splice: -splice.start):
            text = text[: splice.start] + splice.new + text[splice.end :]
        return bytes(self.data[_indent(self.data, like.start) : like.start]) + text


def _indent(data: bytes, start: int) -> int:
    """Where the blanks before an element start: behind what stands before it."""
    while start and data[start - 1] in b" \t\r\n":
        start -= 1
    return start


def _value(element: Element, attribute: str) -> str:
    return element.attributes[attribute] if attribute else element.text


def _normal(path: str) -> str:
    return path.strip("/").replace("[1]", "").replace("@", "")


# finding

_Open = tuple[str, dict[str, str], int]  # an element that has begun: tag, attributes, where


@dataclass(frozen=True)
class _Hit:
    """A record that a pass came upon."""

    sheet: str
    id: str  # with those of the records around it
    own: str
    start: int


def _hits(data: bytes, file: str, row_id: str) -> list[_Hit]:
    """The records of an id, found in one pass over the file that keeps nothing else; FormatError when it is not sound.

    What runs for each element is as little as can be: there are millions of them.
    """
    parser = expat.ParserCreate("utf-8")
    opened: list[_Open] = []
    found: list[_Hit] = []
    wanted = {row_id, row_id.rpartition("/")[2]}
    text: list[str] = []
    push, pop = opened.append, opened.pop

    def start(tag: str, attributes: dict[str, str]) -> None:
        push((tag, attributes, parser.CurrentByteIndex))
        if attributes:
            own = attributes.get("id")
            if own is None:
                own = attributes.get("key")
                if own is None:
                    own = attributes.get("name")
            if own in wanted:
                tell(own, opened)
        elif tag in IDS:  # perhaps the id of the element around it
            text.clear()
            parser.CharacterDataHandler = text.append

    def end(tag: str) -> None:
        _, attributes, _ = pop()
        if tag in IDS and not attributes:
            parser.CharacterDataHandler = None
            own = "".join(text)
            if own in wanted and opened and not any(name in opened[-1][1] for name in IDS):
                tell(own, opened)

    def tell(own: str, stack: list[_Open]) -> None:
        around = [one for _, attributes, _ in stack[:-1] for name in IDS if (one := attributes.get(name)) is not None]
        whole = "/".join([*around, own])
        if row_id in (own, whole):
            found.append(_Hit(sheet_name([tag for tag, _, _ in stack]), whole, own, stack[-1][2]))

    parser.StartElementHandler, parser.EndElementHandler = start, end
    parse(parser, data, file)
    return found


def sheet_name(tags: Sequence[str]) -> str:
    """The sheet of a record: the tags that lead to it, without the root's."""
    return "/".join(tags[1:]) or tags[0]


def _id(element: Element) -> str | None:
    """An element's own id; None when it is no record."""
    for name in IDS:
        if name in element.attributes:
            return element.attributes[name]
    for name in IDS:
        found = next(
            (child for child in element.children if child.tag == name and not child.attributes and not child.children),
            None,
        )
        if found is not None:
            return found.text
    return None


def _records(root: Element) -> Iterator[tuple[Record, Element]]:
    """All records; the root is one that holds what is in no other."""
    own, numbered = _id(root), _numbered(root)
    record = _filled(Record(root.tag, own or "", own or "", root.tag), root, numbered)
    if record.cells or not root.children:
        yield record, root
    numbers: Counter[str] = Counter()
    yield from _records_below(root, [root.tag], root.tag, [own] if own is not None else [], numbered, numbers)


def _records_below(
    element: Element, tags: list[str], path: str, ids: list[str], numbered: Collection[int], numbers: Counter[str]
) -> Iterator[tuple[Record, Element]]:
    counts: dict[str, int] = {}
    for child in element.children:
        count = counts[child.tag] = counts.get(child.tag, 0) + 1
        here, own, sheet = f"{path}/{child.tag}[{count}]", _id(child), sheet_name([*tags, child.tag])
        inner = ids
        if child.start in numbered:
            row_id = f"{NUMBERED}{numbers[sheet]}"
            yield _filled(Record(sheet, row_id, row_id, here), child), child
        elif own is not None and (child.children or child.attributes):
            inner = [*ids, own]
            yield _filled(Record(sheet, "/".join(inner), own, here), child), child
        numbers[sheet] += 1
        if child.children:
            yield from _records_below(child, [*tags, child.tag], here, inner, numbered, numbers)


def _numbered(root: Element) -> set[int]:
    """Where the elements start that are records without an id: those that repeat at one path, in no other record."""
    found: set[int] = set()
    level = {"": [root]}
    while level:
        below: dict[str, list[Element]] = {}
        for path, elements in level.items():
            for child in (child for element in elements for child in element.children):
                below.setdefault(f"{path}/{child.tag}", []).append(child)
        level = {}
        for path, elements in below.items():
            nameless = [element for element in elements if _id(element) is None]
            if len(elements) > 1 and all(element.children or element.attributes for element in nameless):
                found |= {element.start for element in nameless}
            elif nameless:
                level[path] = nameless
    return found


def _filled(record: Record, element: Element, numbered: Collection[int] = ()) -> Record:
    for name, one, attribute in _fields(element, numbered):
        record.cells[name] = _value(one, attribute)
    return record


def _fields(element: Element, numbered: Collection[int] = ()) -> Iterator[tuple[str, Element, str]]:
    """A record's fields: name, the element that holds it, and which attribute (nothing: its text)."""
    yield from ((name, element, name) for name in element.attributes)
    if not element.children and element.text.strip():
        yield TEXT, element, ""
    yield from (
        (path, element, attribute)
        for path, element, attribute in _below(element, "", numbered)
        if attribute or _is_leaf(element)
    )


def _is_leaf(element: Element) -> bool:
    return not element.children and (not element.attributes or bool(element.text.strip()))


def _below(element: Element, before: str = "", numbered: Collection[int] = ()) -> Iterator[tuple[str, Element, str]]:
    """What is below an element and in no other record: elements, and their attributes."""
    counts: dict[str, int] = {}
    for child in element.children:
        number = counts[child.tag] = counts.get(child.tag, 0) + 1
        if child.start in numbered or (_id(child) is not None and (child.children or child.attributes)):
            continue
        path = f"{before}{child.tag}" + (f"[{number}]" if number > 1 else "")
        yield path, child, ""
        yield from ((f"{path}/{name}", child, name) for name in child.attributes)
        yield from _below(child, f"{path}/", numbered)


# writing


def _set(data: bytes, element: Element, change: Change, file: str) -> Splice:
    """The splice that sets, adds or takes out a field."""
    found = next(((holder, attribute) for name, holder, attribute in _fields(element) if name == change.field), None)
    if found is None:
        found = next(
            (
                (holder, "")
                for name, holder, attribute in _below(element)
                if name == change.field and not attribute and not holder.children
            ),
            None,
        )
    if found is None:
        return _new_attribute(data, element, change, file)
    holder, attribute = found
    if attribute:
        span = _attribute(data, holder, attribute)
        if span is None:  # the document type says what it is where it does not stand
            return _new_attribute(
                data, holder, Change("set", change.sheet, change.id, attribute, None, change.after), file
            )
        if change.after is None:
            return Splice(span.start, span.end, b"")
        quote = data[span.end - 1 : span.end]
        inner = bytes(data[span.start : span.end])
        first = inner.index(bytes(quote)) + 1
        return Splice(span.start + first, span.end - 1, _escaped(change.after, file, bytes(quote).decode()))
    if change.after is None:
        return Splice(_indent(data, holder.start), end_of(data, holder), b"")
    tag = tag_of(data, holder)
    start = holder.start + len(tag)
    if tag.endswith(b"/>"):
        return Splice(start - 2, start, b">" + _escaped(change.after, file) + f"</{holder.tag}>".encode())
    return Splice(start, holder.close, _escaped(change.after, file))


def _new_attribute(data: bytes, element: Element, change: Change, file: str) -> Splice:
    """A field that was not there: an attribute behind the others."""
    if change.after is None or not re.fullmatch(r"[A-Za-z_][\w.-]*", change.field):
        raise NotFoundError(f"{file}: row {change.id} has no field {change.field}")
    tag = tag_of(data, element)
    at = element.start + len(tag) - (2 if tag.endswith(b"/>") else 1)
    while data[at - 1 : at] in (b" ", b"\t", b"\r", b"\n"):
        at -= 1
    return Splice(at, at, f' {change.field}="'.encode() + _escaped(change.after, file, '"') + b'"')


def _attribute(data: bytes, element: Element, name: str) -> Splice | None:
    """Where an attribute stands, with the blank before it; None when it does not stand there."""
    for match in _ATTRIBUTE.finditer(tag_of(data, element)):
        if match[1].decode() == name:
            return Splice(element.start + match.start(), element.start + match.end(), b"")
    return None


def _escaped(value: str, file: str, quote: str = "") -> bytes:
    """A value as it stands in an attribute or in an element."""
    if _BAD.search(value):
        raise UnfitError(file, "a character that XML cannot hold", hint="leaving control characters out")
    value = value.replace("&", "&amp;").replace("<", "&lt;").replace("\r", "&#13;")
    if quote:
        value = (
            value.replace(quote, "&quot;" if quote == '"' else "&apos;").replace("\n", "&#10;").replace("\t", "&#9;")
        )
    else:
        value = value.replace("]]>", "]]&gt;")
    return value.encode()


def _compared_records(document: XmlData, data: bytes, changes: Sequence[Change]) -> tuple[Document, Document]:
    """The records that change, before and after. The rest of a large file is compared byte for byte, and all of it
    parsed."""
    new = decoded(data, document.file, document.exactly)[2]
    splices = sorted(document.splices(changes), key=lambda one: one.start)
    at = there = 0
    for one in [*splices, Splice(len(document.data), len(document.data), b"")]:
        size = one.start - at
        if (
            not _equal(document.data, at, new, there, size)
            or new[there + size : there + size + len(one.new)] != one.new
        ):
            raise FormatError(document.file, "something else would change with it", offset=there)
        at, there = one.end, there + size + len(one.new)
    parse(expat.ParserCreate("utf-8"), new, document.file)
    pair = XmlData(b"", document.file), XmlData(b"", document.file)
    places = dict.fromkeys((change.sheet, change.id) for change in changes)
    before, after = list[Record](), list[Record]()
    for sheet, row_id in places:
        element = document.element(sheet, row_id)
        shift = sum(len(splice.new) - (splice.end - splice.start) for splice in splices if splice.end <= element.start)
        for records, found in ((before, element), (after, fragment(new, element.start + shift, document.file))):
            records.append(_filled(Record(sheet, row_id, row_id), found))
    pair[0]._sheets, pair[1]._sheets = sheets_of(before), sheets_of(after)
    return pair


def _equal(data: bytes, at: int, other: bytes, there: int, size: int) -> bool:
    """Whether two stretches are the same, without a copy of either."""
    return all(
        data[at + start : at + min(size, start + STEP)] == other[there + start : there + min(size, start + STEP)]
        for start in range(0, size, STEP)
    )
