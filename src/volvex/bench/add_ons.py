"""Add-on folders, as a game description gives them: a folder in which each mod is a folder or a ZIP with a descriptor
of the game's own."""

from __future__ import annotations

import fnmatch
import re
import sys
from collections.abc import Mapping
from dataclasses import dataclass, fields
from pathlib import Path

from volvex.archive.safe_names import stays_inside
from volvex.errors import FormatError, RefusedError

SYSTEMS = {"win32": "windows", "darwin": "macos"}  # every other one is `linux`
_START = re.compile(r"\{(game|home|documents|app_data)\}/?")
_NAME = re.compile(r"[\w .{}()+-]+")


@dataclass(frozen=True)
class AddOns:
    """Where a game looks for add-ons, and what it expects of each."""

    path: Mapping[str, str]  # by system: the folder, below the game's, or from {home}, {documents} or {app_data}
    archives: tuple[str, ...]  # patterns of the archives whose entries an add-on may replace, under their paths
    format: str = "folder"  # or zip
    name: str = "{id}"  # of each add-on; {order}, {id}, {version}
    content: str = ""  # the folder in an add-on that has the content
    descriptor: str = ""  # the file in an add-on that describes it; empty: there is none
    template: str = ""  # the file beside the description that the descriptor is made from
    list: str = ""  # the XML file of the game in which each add-on has a line
    line: str = ""  # that line; {name}, {id}, {version}, {title}

    def carries(self, archive: str) -> bool:
        """Whether entries of an archive may be in an add-on."""
        return any(fnmatch.fnmatchcase(archive, pattern) for pattern in self.archives)

    def folder(self, game: Path, places: Mapping[str, Path]) -> tuple[Path, str]:
        """The folder in which Volvex keeps its journal of the add-ons, and the path from there to theirs: the game's
        folder, or, where the add-ons are elsewhere, the one that holds their folder. `places` are the user's folders.
        RefusedError when that is neither the game's nor the user's."""
        path = self.path.get(SYSTEMS.get(sys.platform, "linux"))
        if path is None:
            raise RefusedError("the game's description has no folder for add-ons on this system", "another --way")
        start = _START.match(path)
        if start is None or start[1] == "game":
            return game, path[start.end() :] if start else path
        home = places["home"]
        folder = places[start[1]] / path[start.end() :]
        if not folder.parent.resolve().is_relative_to(home.resolve()):  # where the journal is
            raise RefusedError(f"the folder for add-ons, {folder}, is not below {home}", "another --way")
        return folder.parent, folder.name


def add_ons_of(value: object, where: Path, table: str) -> AddOns:
    """The table of a game description; FormatError with what is wrong in it."""

    def wrong(why: str, hint: str = "docs/games.md shows one") -> FormatError:
        return FormatError(where, f"[{table}]: {why}", hint=hint)

    known = {field.name for field in fields(AddOns)}
    if not isinstance(value, dict) or not {"path", "archives"} <= set(value):
        raise wrong("needs `path` and `archives`")
    for name, one in value.items():
        if name not in known or not isinstance(one, {"path": (str, dict), "archives": list}.get(name, str)):  # type: ignore[arg-type]
            raise wrong(f"there is no `{name}`, or it is not of this type", f"one of {', '.join(sorted(known))}")
    path = value["path"]
    paths: dict[str, object] = path if isinstance(path, dict) else dict.fromkeys((*SYSTEMS.values(), "linux"), path)
    for text in paths.values():
        inner = _START.sub("", text, count=1) if isinstance(text, str) else ""
        if not inner.strip("/.") or not stays_inside(inner):
            raise wrong("path is a folder below the game's, or from {home}, {documents} or {app_data}")
    made = AddOns(
        {system: str(path) for system, path in paths.items()},
        tuple(map(str, value["archives"])),
        **{k: v for k, v in value.items() if k not in ("path", "archives")},
    )
    if made.format not in ("folder", "zip"):
        raise wrong(f"format is {made.format!r}", "format = 'folder' or 'zip'")
    for name, inner in (("content", made.content), ("descriptor", made.descriptor), ("list", made.list)):
        if inner and not stays_inside(inner):
            raise wrong(f"{name} leads elsewhere", "a path without ..")
    if not _NAME.fullmatch(made.name) or "{id}" not in made.name:
        raise wrong("name has no {id}, or is not the name of a file", 'name = "{order}-{id}"')
    if "/" in made.template or (bool(made.template) != bool(made.descriptor)):
        raise wrong("a `descriptor` needs a `template` beside the description, and the other way round")
    if bool(made.list) != bool(made.line):
        raise wrong("a `list` needs a `line`, and the other way round")
    return made
