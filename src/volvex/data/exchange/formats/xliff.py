"""XLIFF 2 (OASIS, version 2.0): a unit for each text, its id the unit's name, where it is used a note."""

from __future__ import annotations

from typing import Any

from volvex.data.exchange import Incoming, Wanted
from volvex.data.exchange.units import HEADS, LINES, changed_units, settled, units
from volvex.data.model.sheet import Document
from volvex.errors import FormatError
from volvex.extras import require

EXTENSIONS = ("xlf", "xliff")
FORMS = ("text", LINES)
SPACE = "urn:oasis:names:tc:xliff:document:2.0"
_XML = "{http://www.w3.org/XML/1998/namespace}space"


def write(document: Document, wanted: Wanted) -> bytes:
    """The file."""
    require("lxml", "XLIFF files")
    from lxml import etree

    original, language = settled(document, wanted)
    spaces: Any = {None: SPACE}
    root = etree.Element(
        f"{{{SPACE}}}xliff",
        {"version": "2.0", "srcLang": original or "und", "trgLang": language or "und"},
        nsmap=spaces,
    )
    held = etree.SubElement(root, f"{{{SPACE}}}file", {"id": "f1", "original": document.file.rpartition("/")[2]})
    for number, one in enumerate(units(document, wanted), 1):
        unit = etree.SubElement(held, f"{{{SPACE}}}unit", {"id": f"u{number}", "name": one.id})
        if one.use:
            notes = etree.SubElement(unit, f"{{{SPACE}}}notes")
            etree.SubElement(notes, f"{{{SPACE}}}note", {"category": "location"}).text = one.use
        segment = etree.SubElement(unit, f"{{{SPACE}}}segment")
        for tag, text in (("source", one.original), ("target", one.translation)):
            _put(etree.SubElement(segment, f"{{{SPACE}}}{tag}", {_XML: "preserve"}), text, one.id)
    return etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True)


def _put(element: Any, text: str, row_id: str) -> None:
    try:
        element.text = text
    except ValueError as error:
        raise FormatError(
            "the XLIFF file", f"{row_id} has characters that XML cannot hold", hint="csv or po"
        ) from error


def read(data: bytes, document: Document, wanted: Wanted, file: str) -> Incoming:
    """The changes that the file makes; the target language is the one that it tells."""
    require("lxml", "XLIFF files")
    from lxml import etree

    parser = etree.XMLParser(resolve_entities=False, no_network=True, huge_tree=False)
    try:
        root = etree.fromstring(data, parser)
    except etree.XMLSyntaxError as error:
        raise FormatError(file, f"not valid XML: {error.msg}", hint="mending it in an editor") from error
    if root.tag != f"{{{SPACE}}}xliff":
        raise FormatError(file, f"{root.tag} is not the root of an XLIFF 2 file", hint=f"xliff in {SPACE}")
    told = Wanted(
        wanted.sheet, wanted.row, root.get("trgLang") or wanted.language, root.get("srcLang") or wanted.original
    )
    records = []
    for unit in root.iter(f"{{{SPACE}}}unit"):
        source, target = (_text(unit, tag) for tag in ("source", "target"))
        records.append(
            (f"line {unit.sourceline}", {HEADS[0]: unit.get("name", ""), HEADS[2]: source, HEADS[3]: target})
        )
    return changed_units(document, told, records, file)


def _text(unit: Any, tag: str) -> str:
    """The text of a unit's segments, with that of any inline codes."""
    return "".join("".join(one.itertext()) for one in unit.iter(f"{{{SPACE}}}{tag}"))
