"""Game packs: what is known of one game, in a folder: its description, its layouts, lists of names. Never code, a key
or content.

    game.toml        the description
    *.layout         layouts
    *.template       templates of the game's own descriptors of mods
    names/*.txt      dictionaries for hashed names
    *.md, *.txt      texts for people

A pack lies in a folder of its own below the user's folder; the name of that folder is the name of the pack.
"""

from __future__ import annotations

import os
import re
import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from volvex.archive.safe_names import shown
from volvex.errors import NotFoundError, RefusedError, VolvexError
from volvex.layout.language.parser import read_layout
from volvex.names.dictionary import decoded, parsed
from volvex.shipped import GAMES
from volvex.source import Disk, atomic
from volvex.user_files import CACHE, MODS

DESCRIPTION, NAMES = "game.toml", "names"
ID = re.compile(r"[a-z0-9][a-z0-9._-]{0,63}")
RESERVED = (MODS, CACHE, NAMES)
REPLACED = ".replaced"  # in a folder that is about to be replaced; one that is removed has none
MOST, LARGEST = 2000, 1 << 26  # files, bytes of each
_ALLOWED = re.compile(r"game\.toml|[^/]+\.(?:layout|template|md|txt)|names/[^/]+\.txt", re.I)


@dataclass(frozen=True)
class Pack:
    """A pack: its folder, and the files in it by kind."""

    folder: Path
    ships: bool
    layouts: tuple[str, ...]
    names: tuple[str, ...]
    others: tuple[str, ...]

    @property
    def name(self) -> str:
        return self.folder.name


def pack_in(folder: Path, ships: bool = False) -> Pack:
    """The pack in a folder; NotFoundError when it has no description, RefusedError for what does not belong into
    one."""
    if not (folder / DESCRIPTION).is_file():
        raise NotFoundError(
            f"{shown(str(folder))} has no {DESCRIPTION}", "the folder or ZIP of a game pack, or `volvex games new GAME`"
        )
    files = list(_files(folder))
    odd = [name for name in files if not _ALLOWED.fullmatch(name)]
    if odd and not ships:
        raise RefusedError(
            f"{shown(odd[0])} does not belong into a game pack",
            "only game.toml, layouts, templates, names/*.txt, and texts",
        )
    large = [name for name in files if (folder / name).stat().st_size > LARGEST]
    if large:
        raise RefusedError(f"{shown(large[0])} has more than {LARGEST >> 20} MB", "a smaller file")
    layouts = tuple(name for name in files if name.endswith(".layout"))
    names = tuple(name for name in files if name.startswith(f"{NAMES}/"))
    return Pack(
        folder, ships, layouts, names, tuple(name for name in files if name not in (*layouts, *names, DESCRIPTION))
    )


def _files(folder: Path) -> Iterator[str]:
    count = 0
    for here, folders, files in os.walk(folder):
        folders.sort()
        for name in sorted(files):
            count += 1
            path = Path(here) / name
            if count > MOST or path.is_symlink():
                raise RefusedError(
                    f"{shown(str(path))}: " + ("a link" if path.is_symlink() else f"more than {MOST:,} files"),
                    "a game pack of plain files",
                )
            yield path.relative_to(folder).as_posix()


def faults_of(pack: Pack) -> list[VolvexError]:
    """What is wrong with the layouts and lists of names of a pack."""
    found: list[VolvexError] = []
    for name in pack.layouts:
        try:
            read_layout(pack.folder / name)
        except VolvexError as error:
            found.append(error)
    for name in pack.names:
        try:
            parsed(decoded((pack.folder / name).read_bytes(), name), name)
        except VolvexError as error:
            found.append(error)
    return found


def recover(home: Path) -> None:
    """Bring back a pack that an interrupted `add_pack` had moved away to replace it."""
    for old in home.glob(f"{CACHE}/old-*"):
        name = old.name.removeprefix("old-")
        if ID.fullmatch(name) and (old / REPLACED).is_file() and not (home / name).exists():
            (old / REPLACED).unlink()
            old.replace(home / name)
    for mark in home.glob(f"*/{REPLACED}"):
        mark.unlink()


def packs(home: Path) -> list[Pack]:
    """The user's packs, then those that ship."""
    recover(home)
    return [
        pack_in(path, ships)
        for folder, ships in ((home, False), (GAMES, True))
        for path in (sorted(folder.iterdir()) if folder.is_dir() else ())
        if path.is_dir() and path.name not in RESERVED and (path / DESCRIPTION).is_file()
    ]


def pack_named(home: Path, name: str) -> Pack:
    """The pack of that name; NotFoundError when there is none."""
    every = packs(home)
    found = next((pack for pack in every if pack.name == name), None)
    if found is None:
        raise NotFoundError(f"there is no game pack {shown(name)}", f"one of {', '.join(pack.name for pack in every)}")
    return found


def add_pack(home: Path, pack: Pack, name: str, disk: Disk, overwrite: bool = False) -> Path:
    """Copy a pack into the user's folder; where it is now. Nothing is there when the copying fails."""
    if not ID.fullmatch(name) or name in RESERVED:
        raise RefusedError(
            f"{shown(name)} cannot be the name of a game pack", "--name with small letters, digits and dashes"
        )
    target, fresh, old = home / name, home / CACHE / f"new-{name}", home / CACHE / f"old-{name}"
    recover(home)
    if target.exists() and not overwrite:
        raise RefusedError(f"there is a game pack {name} already", "--overwrite to replace it, or --name")
    for folder in (fresh, old):
        shutil.rmtree(folder, ignore_errors=True)
    try:
        for text in (DESCRIPTION, *pack.layouts, *pack.names, *pack.others):
            with atomic(disk, fresh / text, durable=False) as file:
                disk.write(file, (pack.folder / text).read_bytes())
        if target.exists():
            with atomic(disk, target / REPLACED, durable=False) as file:
                disk.write(file, b"")
            disk.replace(target, old)
        disk.replace(fresh, target)
    except BaseException:
        if old.exists() and not target.exists():
            (old / REPLACED).unlink(missing_ok=True)
            disk.replace(old, target)
        raise
    finally:
        shutil.rmtree(fresh, ignore_errors=True)
        if target.exists():
            shutil.rmtree(old, ignore_errors=True)
    return target


def remove_pack(home: Path, name: str, disk: Disk) -> None:
    """Remove one of the user's packs."""
    pack = pack_named(home, name)
    if pack.ships:
        raise RefusedError(f"the game pack {name} ships with Volvex", "one of your own")
    gone = home / CACHE / f"old-{name}"
    shutil.rmtree(gone, ignore_errors=True)
    disk.make_folder(gone.parent)
    disk.replace(pack.folder, gone)
    shutil.rmtree(gone, ignore_errors=True)
