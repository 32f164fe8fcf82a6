"""Mods as ZIP files: written the same for the same mod on every system, and unpacked with all the bounds of an
untrusted file."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from volvex.archive.access.open import open_archive
from volvex.archive.access.paths import Group
from volvex.archive.detect.filetypes import HEAD, kind_by_content
from volvex.archive.safe_names import shown
from volvex.archive.transfer.unpack import unpack
from volvex.data import open_data
from volvex.errors import FormatError, NotFoundError, RefusedError, VolvexError
from volvex.layout import Library
from volvex.mods.mod.content import Mod, NewFile
from volvex.mods.mod.folder import DESCRIPTOR, MOST_FILES
from volvex.mods.mod.make import LARGEST_TEXT
from volvex.source import Disk
from volvex.source.outputs import new_file
from volvex.source.zip_out import write_zip


def export_mod(folder: Path, target: Path, disk: Disk, overwrite: bool = False) -> int:
    """Write the folder of a mod as a ZIP, its entries sorted, without times and stored as they are; the number of
    files.

    Stored, since the compressed bytes would be others with another version of the compressor.
    """
    files = sorted(path for path in folder.rglob("*") if path.is_file() and not path.is_symlink())
    with new_file(disk, target, overwrite) as out:
        write_zip(out, [(path.relative_to(folder).as_posix(), path) for path in files])
    return len(files)


def broken_files(mod: Mod) -> Iterator[VolvexError]:
    """What is wrong with the XML and JSON among a mod's files."""
    for path, part in mod.parts.items():
        if not isinstance(part, NewFile) or part.file.stat().st_size > LARGEST_TEXT:
            continue
        data = part.file.read_bytes()
        try:
            document = open_data(data, Library(), path) if kind_by_content(data[:HEAD]) in ("xml", "json") else None
            if document is not None:
                document.sheets  # noqa: B018  (read when they are asked for)
        except VolvexError as error:
            yield error


def is_mod(path: Path) -> bool:
    """Whether a folder or an archive is a mod: it has a descriptor at its top, or in its only folder."""
    if path.is_dir():
        return (path / DESCRIPTOR).is_file()
    try:
        archive = open_archive(path, Library()) if path.is_file() else None
    except VolvexError:
        return False
    if archive is None:
        return False
    with archive:
        return any(name.rpartition("/")[2] == DESCRIPTOR and name.count("/") < 2 for name in archive.names)


@contextmanager
def opened_mod(source: Path, work: Path, disk: Disk) -> Iterator[Path]:
    """The folder of a mod that is in a folder or an archive: an archive is unpacked below `work`, and removed
    afterwards."""
    if source.is_dir():
        yield source
        return
    if not source.is_file():
        raise NotFoundError(f"there is no file {shown(str(source))}", "the folder or ZIP of a mod")
    target = work / "unpacked"
    shutil.rmtree(target, ignore_errors=True)
    try:
        unpack_untrusted(source, target, disk)
        yield _top(target, source)
    finally:
        shutil.rmtree(target, ignore_errors=True)


def unpack_untrusted(source: Path, target: Path, disk: Disk, what: str = "mod") -> None:
    """Unpack an archive of somebody else's, which should be a `what`: all of it, under the names that it has, or
    nothing."""
    import numpy as np

    archive = open_archive(source, Library())
    if archive is None:
        raise FormatError(source, "not an archive of a known format", hint=f"the folder or ZIP of a {what}")
    with archive:
        if len(archive) > 2 * MOST_FILES:
            raise RefusedError(
                f"{shown(str(source))} has {len(archive):,} files", f"a {what} of at most {MOST_FILES:,}"
            )
        done = unpack([Group(archive, source.name, np.arange(len(archive), dtype=np.int64))], target, disk)
    if done.refused:
        name, why = done.refused[0]
        raise FormatError(source, f"{shown(name)}: {why}", hint=f"a {what} without such files")
    if done.faults:
        raise done.faults[0]
    if done.renamed:
        raise FormatError(source, f"{shown(done.renamed[0][0])} cannot be a file of that name on every system")


def _top(folder: Path, source: Path) -> Path:
    """The folder with the descriptor: the outermost, or the only one in it."""
    if (folder / DESCRIPTOR).is_file():
        return folder
    inner = [path for path in folder.iterdir() if path.is_dir()]
    if len(inner) == 1 and (inner[0] / DESCRIPTOR).is_file():
        return inner[0]
    raise FormatError(source, f"it has no {DESCRIPTOR}", hint="`volvex mod import` for files that are no mod of Volvex")
