"""Mods in folders: reading and writing.

    mod.toml          the descriptor
    changes/PATH.json field changes of the file PATH, one a line
    lines/PATH.json   line changes of the text PATH
    files/PATH        a file as it will be
    contents.json     what each file replaces, what is removed, and for what content changes were made: digests by path

Nothing in a mod is trusted: sizes and numbers are bounded, paths stay inside, and what is wrong is told by file and
place.
"""

from __future__ import annotations

import os
import tomllib
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from volvex.archive.detect.filetypes import kind_by_content
from volvex.archive.safe_names import Refusal, disk_names, shown, stays_inside
from volvex.data.differences import change_of
from volvex.errors import FormatError, NotFoundError, RefusedError
from volvex.mods.mod.content import (
    ID,
    VERSION,
    Descriptor,
    FieldChanges,
    LineChanges,
    Mod,
    NewFile,
    Part,
    Removed,
    Requirement,
)
from volvex.mods.mod.lines import Hunk
from volvex.source import typed
from volvex.source.digest import is_digest

DESCRIPTOR, CONTENTS = "mod.toml", "contents.json"
CHANGES, LINES, FILES = "changes", "lines", "files"
MOST_FILES = 50_000  # of one mod
LONGEST_DESCRIPTOR = 1 << 20  # bytes
LARGEST_CHANGES = 1 << 26  # bytes of one file of changes
LARGEST_ICON = 1 << 22  # bytes
PICTURES = ("png", "jpeg", "gif", "webp", "bmp")
_TEXTS = {"id", "version", "game", "author", "licence", "icon"}
_LISTS = {"game_versions", "requires", "conflicts", "after"}
_TABLES = {"title", "description", "behind"}


def read_mod(folder: Path) -> Mod:
    """The mod in a folder; NotFoundError when it is none, FormatError for what is wrong in it."""
    if not (folder / DESCRIPTOR).is_file():
        raise NotFoundError(
            f"{shown(str(folder))} has no {DESCRIPTOR}",
            "the folder or ZIP of a mod, or `volvex mod import` for other files",
        )
    descriptor = read_descriptor(folder / DESCRIPTOR)
    _check_icon(folder, descriptor)
    replaces, removed, bases = _read_contents(folder / CONTENTS)
    parts: dict[str, Part] = {path: Removed(digest) for path, digest in removed.items()}
    for kind in (CHANGES, LINES, FILES):
        for path, file in _files(folder, kind):
            if path in parts:
                raise FormatError(file, f"{shown(path)} has two parts in this mod", hint="one of them")
            parts[path] = _part(kind, path, file, replaces, bases.get(path, ""))
            if len(parts) > MOST_FILES:
                raise RefusedError(f"{shown(str(folder))} has more than {MOST_FILES:,} files", "a smaller mod")
    _check_clashes(folder, parts)
    return Mod(descriptor, dict(sorted(parts.items())), folder)


def _part(kind: str, path: str, file: Path, replaces: Mapping[str, str], base: str) -> Part:
    if kind == FILES:
        return NewFile(file, replaces.get(path))
    listed = _listed(file, "changes" if kind == CHANGES else "lines")
    if kind == CHANGES:
        return FieldChanges(tuple(change_of(record, str(file)) for record in listed), base)
    return LineChanges(tuple(_hunk(record, file) for record in listed), base)


def read_descriptor(path: Path) -> Descriptor:
    """The descriptor in a file; FormatError with what is wrong."""
    try:
        with path.open("rb") as file:
            data = file.read(LONGEST_DESCRIPTOR + 1)
        if len(data) > LONGEST_DESCRIPTOR:
            raise ValueError("it is too large")
        values = tomllib.loads(data.decode())
        return _descriptor(values)
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, ValueError, RecursionError) as error:
        raise FormatError(
            path, f"not a valid descriptor: {error}", hint="correcting it; docs/mods.md shows one"
        ) from error


def _descriptor(values: Mapping[str, Any]) -> Descriptor:
    for name, value in values.items():
        if name not in _TEXTS | _LISTS | _TABLES:
            raise ValueError(f"there is no `{name}` in a descriptor")
        if name in _LISTS and not (isinstance(value, list) and all(isinstance(one, str) for one in value)):
            raise ValueError(f"{name}: expected a list of texts")
        if name in _TABLES and not (isinstance(value, dict) and all(isinstance(one, str) for one in value.values())):
            raise ValueError(f'[{name}]: expected lines of texts, such as en = "..."')
        if name in _TEXTS and not isinstance(value, str):
            raise ValueError(f"{name}: expected a text")
    for name, pattern, example in (("id", ID, "deep-lamps"), ("version", VERSION, "1.0")):
        if not pattern.fullmatch(values.get(name, "")):
            raise ValueError(f"{name} is {values.get(name)!r}, expected one such as {example!r}")
    for path in (one for pair in values.get("behind", {}).items() for one in pair):
        if not stays_inside(path):
            raise ValueError(f"[behind]: {shown(path)} leads out of the game")
    if not values.get("game"):
        raise ValueError("game is missing: the name of the game that it is for")
    return Descriptor(
        values["id"],
        values["version"],
        values["game"],
        tuple(values.get("game_versions", ())),
        values.get("title", {}),
        values.get("description", {}),
        values.get("author", ""),
        values.get("licence", ""),
        values.get("icon", ""),
        tuple(map(Requirement.of, values.get("requires", ()))),
        tuple(map(Requirement.of, values.get("conflicts", ()))),
        tuple(Requirement.of(one).id for one in values.get("after", ())),
        values.get("behind", {}),
    )


def _check_icon(folder: Path, descriptor: Descriptor) -> None:
    if not descriptor.icon:
        return
    file = folder / descriptor.icon
    if not stays_inside(descriptor.icon) or file.is_symlink() or not file.is_file():
        raise FormatError(
            folder / DESCRIPTOR, f"icon: there is no file {shown(descriptor.icon)} in the mod", field="icon"
        )
    with file.open("rb") as opened:
        kind = kind_by_content(opened.read(64))
    if kind not in PICTURES or file.stat().st_size > LARGEST_ICON:
        raise FormatError(
            file,
            f"this is {kind}, expected a picture of at most {LARGEST_ICON >> 20} MB",
            field="icon",
            hint="a PNG file",
        )


def _files(folder: Path, kind: str) -> Iterator[tuple[str, Path]]:
    """The paths that parts of a kind are for, with their files; links and odd names are refused."""
    root = folder / kind
    waiting, count = ([root] if root.is_dir() and not root.is_symlink() else []), 0
    while waiting:
        here = waiting.pop()
        with os.scandir(here) as entries:
            for entry in entries:
                count += 1
                if count > 4 * MOST_FILES:
                    raise RefusedError(f"{shown(str(folder))} has more than {MOST_FILES:,} files", "a smaller mod")
                if entry.is_symlink():
                    raise FormatError(entry.path, "this is a link, and a mod has only files", hint="the file itself")
                if entry.is_dir():
                    waiting.append(Path(entry.path))
                    continue
                path = Path(entry.path).relative_to(root).as_posix()
                if kind != FILES:
                    if not path.endswith(".json"):
                        raise FormatError(entry.path, f"expected a file .json below {kind}")
                    path = path.removesuffix(".json")
                yield _inside(path, entry.path), Path(entry.path)


def _inside(path: str, where: str | Path) -> str:
    """A path that a bench can have."""
    place = disk_names([path])[0]
    if not stays_inside(path) or "\0" in path or isinstance(place, Refusal) or place != path:
        raise FormatError(where, f"{shown(path)} is not a path that a game's folder can have on every system")
    return path


def _read_contents(path: Path) -> list[dict[str, str]]:
    """For files what they replace, what is removed, and for what content changes were made: digests by path."""
    if not path.is_file():
        return [{}, {}, {}]
    try:
        value = typed.parsed(_bounded(path))
        tables = []
        for name in ("replaces", "removed", "bases"):
            table = typed.mapping(value.get(name, {}))
            if len(table) > MOST_FILES or not all(is_digest(one) for one in table.values()):
                raise ValueError(f"{name}: expected digests by path")
            tables.append({_inside(text, path): digest for text, digest in table.items()})
    except ValueError as error:
        raise FormatError(path, f"not valid: {error}") from error
    return tables


def written_files(path: Path) -> dict[str, str]:
    """The files that `mod new` wrote, with their digests; none where that is not known."""
    try:
        table = typed.mapping(typed.mapping(typed.parsed(_bounded(path))).get("written", {}))
    except (OSError, ValueError):
        return {}
    return {name: digest for name, digest in table.items() if isinstance(digest, str)}


def _bounded(path: Path) -> bytes:
    with path.open("rb") as file:
        data = file.read(LARGEST_CHANGES + 1)
    if len(data) > LARGEST_CHANGES:
        raise ValueError(f"more than {LARGEST_CHANGES >> 20} MB")
    return data


def _listed(path: Path, name: str) -> list[dict[str, Any]]:
    try:
        return [typed.mapping(one) for one in typed.listed(typed.member(typed.parsed(_bounded(path)), name))]
    except ValueError as error:
        raise FormatError(path, f"not a valid list of {name}: {error}") from error


def _hunk(value: dict[str, Any], path: Path) -> Hunk:
    try:
        texts = [
            tuple(map(typed.text, typed.listed(typed.member(value, name))))
            for name in ("before", "old", "new", "after")
        ]
        return Hunk(typed.whole(typed.member(value, "line")), *texts)
    except ValueError as error:
        raise FormatError(path, f"not a valid change of lines: {error}") from error


def _check_clashes(folder: Path, parts: Mapping[str, Part]) -> None:
    """Paths that differ in case only, or of which one is the folder of another, cannot be in one mod."""
    folded: dict[str, str] = {}
    for path in parts:
        other = folded.setdefault(path.casefold(), path)
        if other != path:
            raise FormatError(
                folder, f"{shown(path)} and {shown(other)} are one file on some systems", hint="one of them"
            )
    for path in parts:
        for end in range(len(path)):
            if path[end] == "/" and path[:end] in parts:
                raise FormatError(
                    folder,
                    f"{shown(path[:end])} is a file of this mod, and {shown(path)} lies in it",
                    hint="one of them",
                )
