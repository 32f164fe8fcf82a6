"""What the files of a folder are: which open, with what, which are locked and by which key, and what nothing knows."""

from __future__ import annotations

import functools
import json
import os
import posixpath
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from volvex import __version__
from volvex.archive.access.open import open_archive
from volvex.archive.access.paths import HIDDEN
from volvex.archive.archive import Archive
from volvex.archive.detect import filetypes
from volvex.archive.detect.survey_cache import Memory, Stamp
from volvex.archive.safe_names import shown
from volvex.archive.transfer.parallel import in_processes, parallel
from volvex.errors import FileError, LockedError, NotFoundError, VolvexError
from volvex.layout import Layout, Library
from volvex.layout.keyring import Key, KeyRing
from volvex.layout.volumes import names_beside
from volvex.library_errors import one_of_many, unreadable
from volvex.source import FileSource
from volvex.source.digest import digest_bytes

_HERE = "\0"  # stands for a file's path in what is remembered
KEPT = 10_000  # files that were looked at before they are remembered at the latest
BATCH = 16  # files that a thread or process looks at before it reports: handing over takes as long as a look
FEW = 500  # files from which processes are worth their start: to look at a small file is work for the interpreter alone


@dataclass(frozen=True)
class Surveyed:
    """A file of a game. Sizes in bytes; `content` is the size of all its entries once decoded."""

    path: str
    size: int
    kind: str  # archive, part (of one that another file leads to), link, or what kind of file it is
    layout: str = ""  # what opens it
    entries: int | None = None
    content: int | None = None
    locked: bool = False
    key: str = ""  # the name of the key that opens it, or that it needs
    fault: str = ""
    hint: str = ""
    beside: tuple[str, ...] = ()  # other files, by name, in which parts of it lie

    @property
    def opens(self) -> bool:
        """Whether its content can be had."""
        return bool(self.layout) and not self.fault and (not self.locked or bool(self.key))

    @property
    def unknown(self) -> bool:
        """Whether nothing says what it is."""
        return not self.layout and not self.fault and self.kind in ("binary", "?")


def survey(
    folder: Path,
    library: Library,
    memory: Memory | None = None,
    wanted: Callable[[str], str] = lambda path: "",
    on_progress: Callable[[int], None] = lambda count: None,
    tied: str = "",
) -> list[Surveyed]:
    """Every file below a folder, the largest first; links are not followed.

    What `memory` knows of files that have the same size and time is not looked at again. `wanted` tells which key a
    file needs, where a game description says so; `on_progress` is told how many files were looked at; `tied` names what
    ties paths to layouts.
    """
    if not folder.is_dir():
        raise NotFoundError(f"there is no folder {shown(str(folder))}", "the folder that holds the game")
    list(library.layouts())  # read once, not by every thread
    memory, by, whole = memory or Memory(None), _means(library, tied), folder.resolve()
    faults: list[Surveyed] = []
    known, there = memory.known(whole, by), dict(_files(folder, faults))
    found = {name: _remembered(folder, told[1]) for name, told in known.items() if there.get(name) == told[0]}
    missing = [name for name in there if name not in found]
    on_progress(len(found))
    new: dict[str, Surveyed] = {}
    batches = [missing[at : at + BATCH] for at in range(0, len(missing), BATCH)]
    task = _Look.of(folder, missing, library, wanted)
    kept = 0
    for batch in in_processes(task, batches) if len(missing) > FEW else parallel(task, batches):
        new.update(batch)
        on_progress(len(batch))
        if len(new) >= kept + KEPT:
            kept = len(new)
            _keep(memory, whole, by, new, there)
    _keep(memory, whole, by, new, there, set(known) - set(there))
    found |= _with_pieces(new, there)
    return sorted([*found.values(), *faults], key=lambda one: (-one.size, one.path))


def _keep(
    memory: Memory,
    folder: Path,
    by: str,
    new: dict[str, Surveyed],
    there: dict[str, Stamp],
    gone: set[str] | None = None,
) -> None:
    record = {name: (there[name], _without_path(vars(piece), name)) for name, piece in _with_pieces(new, there).items()}
    if record or gone:
        memory.keep(folder, by, record, gone or ())


def _without_path(value: dict[str, Any], name: str) -> dict[str, Any]:
    """A record in which the file's path from the current folder does not occur: another survey may stand elsewhere."""
    path = value["path"]
    return value | {"path": name} | {what: value[what].replace(path, _HERE) for what in ("fault", "hint")}


def _remembered(folder: Path, text: str) -> Surveyed:
    value = json.loads(text)
    value["beside"] = tuple(value["beside"])
    path = shown((folder / value["path"]).as_posix())
    return Surveyed(**value | {"path": path} | {what: value[what].replace(_HERE, path) for what in ("fault", "hint")})


def _means(library: Library, tied: str) -> str:
    """What a survey depends on beside the files: this Volvex, the known layouts and what is tied to them, the hashes by
    name."""
    layouts = "".join(digest_bytes(file.read_bytes()) for file in library.files())
    return digest_bytes(f"{__version__} {layouts} {sorted(library.keys.names())} {tied}".encode())[:32]


def _files(folder: Path, faults: list[Surveyed]) -> Iterator[tuple[str, Stamp]]:
    """Every file's path below the folder, with its size and time. What cannot be read goes to `faults`."""
    waiting = [("", str(folder))]
    while waiting:
        before, here = waiting.pop()
        try:
            with os.scandir(here) as entries:
                for entry in entries:
                    if entry.is_dir(follow_symlinks=False):
                        if entry.name != HIDDEN:
                            waiting.append((f"{before}{entry.name}/", entry.path))
                        continue
                    try:
                        told = entry.stat(follow_symlinks=False)
                    except OSError as error:
                        faults.append(_unread(entry.path, error))
                    else:
                        yield before + entry.name, (told.st_size, told.st_mtime_ns)
        except OSError as error:
            faults.append(_unread(here, error))


def _unread(path: str, error: OSError) -> Surveyed:
    name = shown(Path(path).as_posix())
    return Surveyed(name, 0, "?", fault=str(unreadable(name, error)))


@dataclass(frozen=True)
class _Look:
    """Looks at some files of a folder. It holds only what may go to another process: no one there is asked for a
    key."""

    folder: Path
    layouts: tuple[Layout, ...]
    keys: tuple[Key, ...]
    tied: dict[str, Layout]  # by the path as it is shown
    wanted: dict[str, str]  # by the path in the folder: the key that it needs

    @classmethod
    def of(cls, folder: Path, names: list[str], library: Library, wanted: Callable[[str], str]) -> _Look:
        paths = {name: shown((folder / name).as_posix()) for name in names}
        tied = {path: layout for path in paths.values() if (layout := library.tied(path)) is not None}
        keys = {name: key for name in names if (key := wanted(name))}
        return cls(folder, tuple(library.every()), tuple(library.keys.all()), tied, keys)

    @functools.cached_property
    def library(self) -> Library:
        library = Library(first=self.layouts, keys=KeyRing(self.keys), shipped=())
        library.tied = self.tied.get
        return library

    def __call__(self, names: Sequence[str]) -> list[tuple[str, Surveyed]]:
        return [(name, _look(self.folder, name, self.library, self.wanted.get(name, ""))) for name in names]


def _look(folder: Path, inner: str, library: Library, wanted: str) -> Surveyed:
    path = folder / inner
    name = shown(path.as_posix())
    size = 0
    try:
        with one_of_many(name):
            if path.is_symlink() or not path.is_file():
                return Surveyed(name, 0, "link" if path.is_symlink() else "pipe")
            size = path.stat().st_size
            return _looked_at(path, name, size, library, wanted)
    except LockedError as error:
        return Surveyed(
            name, size, "archive", locked=True, layout="?", key=wanted, fault=error.message, hint=error.hint
        )
    except FileError as error:
        return Surveyed(name, size, "?", fault=error.message, hint=error.hint)
    except VolvexError as error:
        return Surveyed(name, size, "archive", fault=error.message, hint=error.hint)


def _looked_at(path: Path, name: str, size: int, library: Library, wanted: str) -> Surveyed:
    with path.open("rb") as file:
        kind = filetypes.kind_by_more(file.read(filetypes.LATE))
    archive = open_archive(path, library, name)
    if archive is None:
        data = _data_layout(path, name, library) if kind == "binary" or library.tied(name) is not None else None
        if data is None:
            return Surveyed(name, size, kind)
        return Surveyed(name, size, data.kind, data.title, beside=names_beside(data, path.name))
    with archive:
        return _told(archive, name, size, wanted)


def _data_layout(path: Path, name: str, library: Library) -> Layout | None:
    """The layout of a table, of texts or of a scene whose marks a file bears."""
    with FileSource(path, name) as source:
        return library.match_data(source)


def _told(archive: Archive, name: str, size: int, wanted: str) -> Surveyed:
    locked, key = archive.lock()
    said = f"it needs the key {wanted}" if wanted else "it needs a key"
    hint = f"`volvex keys add {wanted or 'NAME'}` with its password"
    closed = locked and not key
    return Surveyed(
        name,
        size,
        "archive",
        archive.called,
        len(archive),
        int(archive.entries.size.sum()),
        locked,
        key or wanted,
        f"{name}: {said}" if closed else "",
        hint if closed else "",
        archive.kept_beside,
    )


def _with_pieces(new: dict[str, Surveyed], there: dict[str, Stamp]) -> dict[str, Surveyed]:
    """Pieces of archives that were opened by their first, and files beside pictures, are reported as parts of these."""
    found = dict(new)
    for name, surveyed in sorted(new.items()):
        folder, slash, own = name.rpartition("/")
        for other in (posixpath.normpath(folder + slash + part) for part in surveyed.beside):
            if other in found and found[other].kind != "part":
                shared = surveyed.kind != "archive" and own.rpartition(".")[0] not in other
                whose = f"beside {surveyed.layout}" if shared else f"a part of {own}"
                found[other] = Surveyed(found[other].path, there[other][0], "part", whose)
    return found
