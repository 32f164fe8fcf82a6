"""What the files of a folder are: which open, with which layout, and what the others hold."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

from volvex.archive import filetypes
from volvex.archive.names import shown
from volvex.archive.opening import open_archive
from volvex.archive.paths import HIDDEN
from volvex.archive.work import parallel
from volvex.errors import NotFoundError, VolvexError
from volvex.layout import Library


@dataclass(frozen=True)
class Surveyed:
    """A file of a game. Sizes in bytes; `content` is the size of all its entries once decoded."""

    path: str
    size: int
    kind: str
    layout: str = ""
    entries: int | None = None
    content: int | None = None
    fault: VolvexError | None = None


def survey(folder: Path, library: Library) -> list[Surveyed]:
    """Every file below a folder, the largest first; links are not followed."""
    if not folder.is_dir():
        raise NotFoundError(f"there is no folder {shown(str(folder))}", "the folder that holds the game")
    list(library.layouts())  # read once, not by every thread
    paths = []
    for here, folders, files in os.walk(folder):
        folders[:] = sorted(name for name in folders if name != HIDDEN)
        paths += [Path(here) / name for name in files]
    found = parallel(lambda path: _look(path, library), paths)
    return sorted(found, key=lambda one: (-one.size, one.path))


def _look(path: Path, library: Library) -> Surveyed:
    name = shown(path.as_posix())
    if path.is_symlink() or not path.is_file():
        return Surveyed(name, 0, "link")
    try:
        size = path.stat().st_size
        with path.open("rb") as file:
            kind = filetypes.kind_by_content(file.read(filetypes.HEAD))
        archive = open_archive(path, library, name)
    except VolvexError as error:
        return Surveyed(name, size, "archive", fault=error)
    except OSError:
        return Surveyed(name, 0, "?")
    if archive is None:
        return Surveyed(name, size, kind)
    with archive:
        return Surveyed(name, size, "archive", archive.called, len(archive), int(archive.entries.size.sum()))
