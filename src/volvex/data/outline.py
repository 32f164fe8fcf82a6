"""A document as a tree, for being looked at: folded to some depth, from the top or from one place on."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from volvex.data.model.sheet import Document, Sheet
from volvex.data.text.formats._xml_tree import Element, tree_of
from volvex.data.text.formats.xml import XmlData, _id, _normal
from volvex.data.text.node_edits import NodeData
from volvex.data.text.node_tree import LIST, OBJECT, Node, own_key
from volvex.errors import NotFoundError


@dataclass(frozen=True)
class Branch:
    """Something in a tree: its name and place, what can be said of it in a line, and what is in it."""

    name: str
    place: str
    about: str
    below: Callable[[], Sequence[Branch]]
    count: int  # of what is below


def outline(document: Document) -> Branch:
    """The whole document."""
    if isinstance(document, XmlData):
        root = tree_of(document.data, document.file)
        return _element(root, root.tag)
    if isinstance(document, NodeData):
        return _node(document.root, document.file.rpartition("/")[2], "")
    sheets = document.sheets
    return Branch(document.file.rpartition("/")[2], "", "", lambda: [_sheet(sheet) for sheet in sheets], len(sheets))


def branch_at(document: Document, path: str) -> Branch:
    """The branch at a place; NotFoundError with a near miss."""
    wanted, known = _normal(path), list[str]()
    for branch in walk(outline(document)):
        here = _normal(branch.place)
        if wanted in (here, here.partition("/")[2] if isinstance(document, XmlData) else here):
            return branch
        known += [here, here.partition("/")[2]] if isinstance(document, XmlData) else [here]
    near = difflib.get_close_matches(wanted, known[:5000], 1)
    raise NotFoundError(f"{document.file}: there is no {path}", f"--at {near[0]}" if near else "")


def walk(branch: Branch) -> Iterator[Branch]:
    """A branch and all below it, each before what is in it."""
    waiting = [branch]
    while waiting:
        one = waiting.pop()
        yield one
        waiting.extend(reversed(one.below()))


def _element(element: Element, path: str) -> Branch:
    lines = [f"{name}={value}" for name, value in element.attributes.items()]
    text = element.text.strip() if not element.children else ""
    row_id = _id(element)
    name = element.tag if row_id is None else f"{element.tag} {row_id}"

    def below() -> list[Branch]:
        counts: dict[str, int] = {}
        made = []
        for child in element.children:
            number = counts[child.tag] = counts.get(child.tag, 0) + 1
            made.append(_element(child, f"{path}/{child.tag}[{number}]"))
        return made

    return Branch(name, path, "  ".join([*lines, *([repr(text)[1:-1]] if text else [])]), below, len(element.children))


def _node(node: Node, name: str, path: str) -> Branch:
    if node.shape not in (OBJECT, LIST):
        return Branch(name, path, node.value, list, 0)
    single = {text: inner.value for text, inner in node.members.items() if inner.shape not in (OBJECT, LIST)}
    deeper = {text: inner for text, inner in node.members.items() if inner.shape in (OBJECT, LIST)}
    row_id = own_key(node)
    text = (
        "  ".join(f"{text}={value}" for text, value in single.items())
        if node.shape == OBJECT
        else ", ".join(single.values())
    )
    return Branch(
        name if row_id is None else f"{name} {row_id}",
        path,
        text,
        lambda: [_node(inner, text, f"{path}/{text}".lstrip("/")) for text, inner in deeper.items()],
        len(deeper),
    )


def _sheet(sheet: Sheet) -> Branch:
    return Branch(sheet.name, sheet.name, "", lambda: [_record(sheet, row) for row in range(len(sheet))], len(sheet))


def _record(sheet: Sheet, row: int) -> Branch:
    record = {name: text for name, text in sheet.record(row).items() if name not in sheet.id}
    name = next(
        (
            record[column.name]
            for column in sheet.columns.values()
            if column.rule.role == "name" and column.name in record
        ),
        "",
    )
    place = f"{sheet.name}/{sheet.ids[row]}"
    shown = "  ".join(f"{field}={text}" for field, text in record.items() if text != name and text != sheet.name)
    return Branch(
        f"{sheet.ids[row]} {name}".strip(),
        place,
        shown,
        lambda: [Branch(field, f"{place}/{field}", text, list, 0) for field, text in record.items()],
        0,
    )
