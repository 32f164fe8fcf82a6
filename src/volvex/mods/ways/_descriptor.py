"""A game's own descriptor of a mod, made from the template of its description and from `mod.toml`.

A template is a descriptor with `{id}`, `{version}`, `{title}`, `{description}`, `{author}`, `{licence}`, `{icon}`,
`{game_version}` and `{name}` (of the add-on) where those values go. In JSON, a member whose value has nothing to say is
left out, and one with `{language}` in its name, or in a list, is there once for each language. In XML, INI and other
text the same holds for lines. Values are escaped as the form wants it.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

from volvex.data import Change, require_data
from volvex.data.text.formats._xml_tree import tree_of
from volvex.data.verify import edited
from volvex.errors import FormatError, NotFoundError
from volvex.layout import Library
from volvex.mods.mod.content import Descriptor

LARGEST = 1 << 20  # bytes of a template
NAMES = ("id", "version", "title", "description", "author", "licence", "icon", "game_version", "name", "language")
_PLACE = re.compile(rf"\{{({'|'.join(NAMES)})\}}")
_BAD = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f\ufffe\uffff\ud800-\udfff]")


@dataclass(frozen=True)
class Filling:
    """The values of a descriptor."""

    descriptor: Descriptor
    icon: str
    name: str  # of the add-on

    def value(self, name: str, language: str | None) -> str:
        """The value of a place, in a language where it is told by language; empty when there is none."""
        descriptor = self.descriptor
        if name == "title":
            return descriptor.titles.get(language or "", descriptor.title if language is None else "")
        if name == "description":
            return descriptor.descriptions.get(language or "", descriptor.description if language is None else "")
        if name == "game_version":
            return descriptor.game_versions[-1] if descriptor.game_versions else ""
        own = {"icon": self.icon, "name": self.name, "language": language or ""}
        return own[name] if name in own else str(getattr(descriptor, name))

    @property
    def languages(self) -> list[str]:
        return sorted({*self.descriptor.titles, *self.descriptor.descriptions})


def filled(template: Path, name: str, filling: Filling) -> bytes:
    """The descriptor called `name` from a template; FormatError when it comes out as none of its form."""
    try:
        if template.stat().st_size > LARGEST:
            raise FormatError(template, f"a template of more than {LARGEST >> 20} MB")
        text = template.read_bytes().decode("utf-8-sig")
    except FileNotFoundError as error:
        raise NotFoundError(
            f"there is no template {template}", "the line `template` of the game's description"
        ) from error
    except UnicodeDecodeError as error:
        raise FormatError(template, "a template is text in UTF-8", offset=error.start) from error
    suffix = name.rpartition(".")[2].lower()
    if suffix == "json":
        return _json(text, template, filling)
    lines = [text for line in text.splitlines(keepends=True) for text in _lines(line, filling, suffix)]
    data = "".join(lines).encode()
    if suffix == "xml":
        tree_of(data, str(template))
    return data


def filled_line(line: str, filling: Filling) -> str:
    """A line of an XML list."""
    return "".join(_lines(line, filling, "xml")) or line


def _lines(line: str, filling: Filling, suffix: str) -> Iterator[str]:
    """A line of a template: left out where its values say nothing, once for each language where it names that."""
    names = set(_PLACE.findall(line))
    for language in filling.languages if "language" in names else [None]:
        values = {name: filling.value(name, language) for name in names}
        if not names or any(value for name, value in values.items() if name != "language") or names == {"language"}:
            yield _PLACE.sub(lambda match: _escaped(values[match[1]], suffix), line)  # noqa: B023 -- used at once


def _escaped(value: str, suffix: str) -> str:
    value = _BAD.sub("", value)
    if suffix == "xml":
        return escape(value, {'"': "&quot;", "\n": "&#10;"})
    return " ".join(value.split()) if suffix in ("ini", "cfg", "txt") else value


def _json(text: str, template: Path, filling: Filling) -> bytes:
    try:
        value = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise FormatError(template, f"not valid JSON: {error}", hint="mending the template") from error
    return (json.dumps(_node(value, filling, None), indent=2, ensure_ascii=False) + "\n").encode("utf-8", "replace")


def _node(value: Any, filling: Filling, language: str | None) -> Any:
    """A value of a template with its places filled; None for one that says nothing."""
    if isinstance(value, str):
        names = _PLACE.findall(value)
        made = _PLACE.sub(lambda match: filling.value(match[1], language), value)
        return None if names and not any(filling.value(name, language) for name in names) else made
    if isinstance(value, list):
        items = [(one, tongue) for one in value for tongue in _tongues(json.dumps(one), filling, language)]
        return [made for one, tongue in items if (made := _node(one, filling, tongue)) is not None]
    if isinstance(value, dict):
        found: dict[str, Any] = {}
        for name, one in value.items():
            for tongue in _tongues(name, filling, language):
                made = _node(one, filling, tongue)
                if made is not None or one is None:
                    found[_PLACE.sub(lambda match: filling.value(match[1], tongue), name)] = made  # noqa: B023
        return found
    return value


def _tongues(text: str, filling: Filling, language: str | None) -> list[str] | list[str | None]:
    """The languages for which something is there: once for all, unless it names one."""
    return filling.languages if language is None and "{language}" in text else [language]


_PLACES = {
    "id": ("id", "modid", "mod_id", "identifier", "key"),
    "version": ("version", "ver", "modversion"),
    "title": ("title", "name", "label", "displayname", "display_name"),
    "description": ("description", "desc", "about", "summary", "text"),
    "author": ("author", "authors", "creator", "by"),
    "licence": ("licence", "license"),
    "icon": ("icon", "image", "picture", "file", "thumbnail"),
    "game_version": ("game", "gameversion", "game_version", "supported_version", "supportedversion", "target"),
    "language": ("language", "lang", "locale"),
}


def template_of(data: bytes, name: str, library: Library) -> bytes:
    """A template from a descriptor that somebody made: values whose fields are called as such values usually are become
    places, and lines that are the same then are there once. FormatError when it is no data of a known form."""
    document = require_data(data, library, name)
    places = {field: place for place, fields in _PLACES.items() for field in fields}
    changes = []
    for sheet in document.sheets:
        for row, key in enumerate(sheet.ids):
            for field, value in sheet.record(row).items():
                parts = [re.sub(r"\[\d+\]$", "", part).lower() for part in re.split(r"[/.]", field)]
                called = sheet.name.lower() if parts[-1] == "text" else parts[-1]
                place = places.get(called) or (places.get(parts[-2]) if len(parts) > 1 else None)
                if place is not None and value:
                    changes.append(Change("set", sheet.name, key, field, value, f"{{{place}}}"))
    made = edited(document, changes) if changes else data
    lines = (
        list(dict.fromkeys(made.splitlines(keepends=True))) if b"{language}" in made else made.splitlines(keepends=True)
    )
    return b"".join(lines)
