"""Writing mods into folders: a new one, and again over one that is there.

A mod that is there is made again beside it and exchanged, so that it is the old one or the new one whatever happens.
`contents.json` lists what was written with its digest: what lies there and is not that is its author's own, and is kept
aside.
"""

from __future__ import annotations

import contextlib
import json
import shutil
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any

from volvex.data.differences import plain
from volvex.errors import RefusedError
from volvex.mods.mod.content import Descriptor, FieldChanges, LineChanges, Mod, NewFile, Removed
from volvex.mods.mod.folder import CHANGES, CONTENTS, DESCRIPTOR, FILES, LINES, written_files
from volvex.source import Disk, atomic
from volvex.source.digest import digest_file

OURS = (CHANGES, LINES, FILES, CONTENTS, DESCRIPTOR)


def rewrite_mod(
    mod: Mod, folder: Path, disk: Disk, keep: Callable[[Path, str], None], game: Mapping[str, Any] | None = None
) -> None:
    """Write a mod again in the folder where one is. `keep` is given each file of the author's own that goes, and its
    path in the mod.

    Comments in `mod.toml` stay, and so does what lies beside the mod's own files.
    """
    new, old = (folder.with_name(f".{folder.name}.{word}") for word in ("new", "old"))
    shutil.rmtree(new, ignore_errors=True)
    try:
        write_mod(mod, new, disk, (folder / DESCRIPTOR).read_text("utf-8"), game)
        if not disk.changes:
            return
        for path in folder.iterdir():
            if path.name not in OURS:
                _copy(path, new / path.name, disk)
        for path, name in _own_files(folder, new):
            keep(path, name)
        disk.replace(folder, old)
        try:
            disk.replace(new, folder)
        except BaseException:
            old.replace(folder)
            raise
    except BaseException:
        shutil.rmtree(new, ignore_errors=True)
        raise
    shutil.rmtree(old, ignore_errors=True)


def recover_mod(folder: Path) -> None:
    """Bring a mod back whose exchange was interrupted."""
    old = folder.with_name(f".{folder.name}.old")
    if old.is_dir() and not folder.exists():
        with contextlib.suppress(OSError):
            old.replace(folder)


def _copy(path: Path, target: Path, disk: Disk) -> None:
    if path.is_dir() and not path.is_symlink():
        disk.make_folder(target)
        for inner in path.iterdir():
            _copy(inner, target / inner.name, disk)
    elif path.is_symlink():
        raise RefusedError(f"{path} is a link, and a mod has only files", "the file itself")
    else:
        _copy_file(path, target, disk)


def _copy_file(path: Path, target: Path, disk: Disk) -> None:
    with atomic(disk, target, durable=False) as out, path.open("rb") as source:
        while chunk := source.read(1 << 20):
            disk.write(out, chunk)


def _own_files(folder: Path, new: Path) -> Iterator[tuple[Path, str]]:
    """What the author put among a mod's files, or changed there by hand, and the new state does not have."""
    written = written_files(folder / CONTENTS)
    for kind in (CHANGES, LINES, FILES):
        for path in sorted((folder / kind).rglob("*")):
            name = path.relative_to(folder).as_posix()
            if not path.is_file():
                continue
            digest, there = digest_file(path), new / name
            if written.get(name) != digest and not (there.is_file() and digest_file(there) == digest):
                yield path, name


def write_mod(mod: Mod, folder: Path, disk: Disk, descriptor: str = "", game: Mapping[str, Any] | None = None) -> None:
    """Write a mod into a folder that is empty or not there.

    `descriptor` is the text of the one that it had, `game` what says which game it is for.
    """
    disk.make_folder(folder)
    _put(disk, folder / DESCRIPTOR, descriptor_text(mod.descriptor, descriptor).encode())
    replaces: dict[str, str] = {}
    removed: dict[str, str] = {}
    bases = {
        path: part.base
        for path, part in mod.parts.items()
        if isinstance(part, FieldChanges | LineChanges) and part.base
    }
    for path, part in sorted(mod.parts.items()):
        if isinstance(part, Removed):
            removed[path] = part.replaces
        elif isinstance(part, NewFile):
            if part.replaces is not None:
                replaces[path] = part.replaces
            _copy_file(part.file, folder / FILES / path, disk)
        elif isinstance(part, FieldChanges):
            _put(
                disk,
                folder / CHANGES / f"{path}.json",
                _rows_text("changes", [plain(change) for change in part.changes]),
            )
        else:
            rows = [
                {"line": hunk.start, "before": hunk.before, "old": hunk.old, "new": hunk.new, "after": hunk.after}
                for hunk in part.hunks
            ]
            _put(disk, folder / LINES / f"{path}.json", _rows_text("lines", rows))
    written = {
        path.relative_to(folder).as_posix(): digest_file(path)
        for kind in (CHANGES, LINES, FILES)
        for path in sorted((folder / kind).rglob("*"))
        if path.is_file()
    }
    value: dict[str, Any] = {
        "replaces": replaces,
        "removed": removed,
        "bases": dict(sorted(bases.items())),
        "written": written,
    }
    value |= {"game": dict(game)} if game else {}
    text = json.dumps(value, indent=1, ensure_ascii=False) + "\n"
    _put(disk, folder / CONTENTS, text.encode("utf-8", "surrogateescape"))


def _rows_text(name: str, rows: list[dict[str, Any]]) -> bytes:
    """A list with a row a line, to be read and compared."""
    lines = ",\n ".join(json.dumps(row, ensure_ascii=False) for row in rows)
    return f'{{"{name}": [\n {lines}\n]}}\n'.encode("utf-8", "surrogateescape")


def descriptor_text(descriptor: Descriptor, before: str = "") -> str:
    """A descriptor as TOML, in a fixed order; of one that already exists only what differs is written again."""
    import tomlkit

    values: dict[str, Any] = {name: getattr(descriptor, name) for name in ("id", "version", "game")}
    values |= {name: value for name in ("author", "licence", "icon") if (value := getattr(descriptor, name))}
    values["game_versions"] = list(descriptor.game_versions)
    values["requires"] = [str(requirement) for requirement in descriptor.requires]
    values["conflicts"] = [str(requirement) for requirement in descriptor.conflicts]
    values["after"] = list(descriptor.after)
    values |= {"behind": dict(sorted(descriptor.behind.items()))} if descriptor.behind else {}
    values["title"], values["description"] = dict(descriptor.titles), dict(descriptor.descriptions)
    if not before:
        return tomlkit.dumps(values)
    document = tomlkit.parse(before)
    for name in [name for name in document if name not in values]:
        del document[name]
    for name, value in values.items():
        if document.get(name, [] if isinstance(value, list) else None) != value:
            document[name] = value
    return tomlkit.dumps(document)


def _put(disk: Disk, path: Path, data: bytes) -> None:
    with atomic(disk, path, durable=False) as file:
        disk.write(file, data)
