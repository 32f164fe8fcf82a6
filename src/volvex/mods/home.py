"""The folder `.volvex` within a game: held by one process at a time, free of links, and tidied without ever losing an
original.

    state.json, state.copy.json    the journal
    originals/     originals, each named by the digest of its content
    incoming/      new content, complete and synced, waiting for its name
    replaced/    what was there before, until a transaction is done
    aside/       changed files that `restore --overwrite` put originals over
    lock         held while one of us works here

A game's folder comes from elsewhere, so nothing in it is trusted: where one of these is a link, nothing is done at all.
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import stat
from collections.abc import Iterable, Iterator
from pathlib import Path

from volvex.archive.access.paths import HIDDEN
from volvex.errors import RefusedError
from volvex.mods.journal import NAMES, State, read_state
from volvex.mods.store import Store
from volvex.source import Disk, atomic, typed
from volvex.source.digest import digest_file
from volvex.source.disk import is_leftover
from volvex.source.lock import Lock, acquire

ASIDE = "aside"
TOLD = "told.json"  # what the user was told once
_FOLDERS = ("originals", "incoming", "replaced", ASIDE)
_OURS = re.compile(r"[a-z0-9-]{1,40}")  # names in `incoming` and `replaced`


def home_of(game: Path) -> Path:
    """The folder; RefusedError when it, or one that we use in it, is a link or no folder."""
    home = game / HIDDEN
    if os.path.lexists(home):
        _require_folder(home)
        for name in _FOLDERS:
            if os.path.lexists(home / name):
                _require_folder(home / name)
    return home


def _require_folder(path: Path) -> None:
    found = path.lstat()
    linked = bool(getattr(found, "st_file_attributes", 0) & 0x400)  # on Windows: a junction, or another link
    if linked or not stat.S_ISDIR(found.st_mode):
        raise RefusedError(
            f"{path} is a link or a file, and Volvex makes only folders there: nothing was changed",
            "removing it, once you know where it comes from",
        )


def _regular(folder: Path) -> list[Path]:
    """The plain files of a folder that is no link."""
    if not os.path.lexists(folder):
        return []
    _require_folder(folder)
    return sorted(path for path in folder.iterdir() if stat.S_ISREG(path.lstat().st_mode))


@contextlib.contextmanager
def locked(game: Path, disk: Disk) -> Iterator[Path]:
    """The folder, ours alone; gone again when nothing is left in it. RefusedError when another process works there."""
    lock = _lock(game, disk)
    try:
        _tidied(game, disk)  # what a process left that was killed
        home = home_of(game)
        try:
            yield home
        finally:
            _tidied(game, disk)
            with contextlib.suppress(OSError):  # what is left is empty, and goes the next time
                lock.remove()
                disk.remove_folder(home)
    finally:
        lock.release()


def _lock(game: Path, disk: Disk) -> Lock:
    for _ in range(3):
        try:
            home = home_of(game)
            disk.make_folder(home, durable=True)
            lock = acquire(home / "lock")
        except FileNotFoundError:  # another process has just removed the folder
            continue
        if lock is not None:
            return lock
        break
    raise RefusedError(f"another volvex is at work in {game}", "waiting until it is done")


def _tidied(game: Path, disk: Disk) -> None:
    """Tidy as far as the disk allows: the next command does the rest."""
    with contextlib.suppress(OSError):
        tidy(game, disk)


def tidy(game: Path, disk: Disk) -> None:
    """Remove what is not needed: what was staged or replaced by a transaction that is over, copies of originals that
    the game has.

    With a damaged journal, or a transaction under way, nothing is removed. An original goes only when it belongs to
    nothing that is installed and a file of the game has exactly its bytes, found by reading it.
    """
    home = home_of(game)
    state = read_state(home)
    if state.under_way:
        return
    for path in (*_regular(home / "incoming"), *_regular(home / "replaced")):
        if _OURS.fullmatch(path.name) or is_leftover(path.name):
            disk.remove(path)
    for path in leftovers(home):
        disk.remove(path)
    store = Store(home / "originals", disk)
    for digest in _superfluous(game, store, state):
        disk.remove(store.path(digest))
    for folder in (home / name for name in _FOLDERS):
        if folder.is_dir() and not folder.is_symlink() and not any(folder.iterdir()):
            disk.remove_folder(folder)
    if state.empty and not any(store.objects()):
        for name in (*NAMES, TOLD):
            if os.path.lexists(home / name):
                disk.remove(home / name)


def leftovers(home: Path) -> list[Path]:
    """Temporary files of processes that were killed."""
    folders = [home, *(home / name for name in ("originals", "incoming", "replaced"))]
    return [path for folder in folders for path in _regular(folder) if is_leftover(path.name)]


def _superfluous(game: Path, store: Store, state: State) -> list[str]:
    """The objects that belong to nothing, and whose bytes the game has."""
    loose = {digest: store.path(digest).stat().st_size for digest in store.objects() if digest not in state.needed()}
    if not loose:
        return []
    sizes, found = set(loose.values()), set[str]()
    for path in _files(game):
        if path.stat().st_size in sizes and (digest := digest_file(path)) in loose:
            found.add(digest)
            if len(found) == len(loose):
                break
    return [digest for digest in sorted(found) if digest_file(store.path(digest)) == digest]


def orphans(game: Path, state: State) -> list[str]:
    """Originals that no journal knows a path for, and that the game does not have."""
    store = Store(home_of(game) / "originals", Disk())
    loose = [digest for digest in store.objects() if digest not in state.needed()]
    known = set(_superfluous(game, store, state)) if loose else set()
    return [digest for digest in loose if digest not in known]


def _files(game: Path) -> Iterable[Path]:
    """The game's own plain files."""
    for here, folders, names in os.walk(game):
        folders[:] = sorted(name for name in folders if name != HIDDEN)
        for name in sorted(names):
            path = Path(here, name)
            if stat.S_ISREG(path.lstat().st_mode):
                yield path


def unknown_yet(game: Path, keys: Iterable[str], disk: Disk) -> set[str]:
    """Which of some things the user was not told yet; from now on they were."""
    path = home_of(game) / TOLD
    try:
        told = set(typed.listed(typed.load(path).get("told")))
    except (OSError, ValueError):
        told = set()
    new = {key for key in keys if key not in told}
    if new:
        with atomic(disk, path) as file:
            disk.write(file, json.dumps({"told": sorted(map(str, {*told, *new}))}).encode())
    return new


def free_aside(game: Path, path: str) -> Path:
    """Where a file of the game can go that nothing ever touches again."""
    target, number = home_of(game) / ASIDE / path, 1
    while os.path.lexists(target):
        number += 1
        target = target.with_name(f"{Path(path).name}~{number}")
    return target


def set_aside(game: Path, path: str, disk: Disk) -> Path:
    """Move a file of the game out of the way, into a folder that nothing ever empties; where it is now."""
    target = free_aside(game, path)
    disk.make_folder(target.parent, durable=True)
    disk.replace(game / path, target)
    disk.sync_folder(target.parent)
    return target
