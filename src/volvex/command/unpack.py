"""Write entries into a folder with their tree.

Existing files are not overwritten unless --overwrite is given. Damaged entries, and entries whose names lead out of the
folder, are reported, and all others are written. Names that some system cannot store are changed in the same way on
every system, and `pack` changes them back.
"""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path

from volvex.archive import Archive, Group, Walker
from volvex.archive.access.merged import MARK
from volvex.archive.safe_names import disk_names
from volvex.archive.transfer.unpack import Unpacked, unpack
from volvex.command.ui.context import Context
from volvex.command.ui.faults import note_faults
from volvex.command.ui.reader import add_reading, open_walker
from volvex.command.ui.table import count, number
from volvex.command.ui.variants import add_variant
from volvex.errors import NotFoundError, RefusedError, Status, UsageError

PRIORITY = 20
WRITES = True
INPUTS = ("path",)
EXAMPLES = (
    "volvex unpack game/data/main.kwp --to main",
    'volvex unpack "game/data/**/*.xml" --to rules',
)
TOLD = 20


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("path", nargs="+", metavar="PATH", help="an archive, or a path in one; * ? [ab] and ** match")
    parser.add_argument(
        "--to", type=Path, metavar="DIR", help="the folder to write into (default: a new one, named after the archive)"
    )
    there = parser.add_mutually_exclusive_group()
    there.add_argument("--overwrite", action="store_true", help="replace existing files")
    there.add_argument("--skip-existing", action="store_true", help="skip files that exist")
    parser.add_argument(
        "--deep", action="store_true", help="also unpack nested archives, each into a folder of its name"
    )
    parser.add_argument(
        "--by",
        choices=("path", "type"),
        default="path",
        help="a folder for each type, and paths below it (default: path)",
    )
    parser.add_argument("--salvage", action="store_true", help="save what is intact in damaged archives")
    add_variant(parser)
    add_reading(parser)


def run(options: argparse.Namespace, context: Context) -> int:
    existing = "replace" if options.overwrite else "skip" if options.skip_existing else "refuse"
    with open_walker(options, context) as walker:
        walker.salvage = options.salvage
        found = [walker.find(path, deep=True, nested=options.deep) for path in options.path]
        groups = [group for one in found for group in one.groups]
        loose = [(path, file) for one in found for path, file in one.files if path in one.homes]
        if not groups and not loose:
            raise NotFoundError("no archive at this path", "`volvex survey` to see which files open")
        folder = options.to or _folder(groups)
        context.disk.require_allowed(folder)
        total = sum(int(group.archive.entries.size[group.rows].sum()) for group in groups)
        total += sum(file.stat().st_size for _, file in loose)
        context.interrupted = (
            f"the files in {folder} are whole, the others are not there",
            "the same command with --skip-existing, which goes on from there",
        )
        with context.progress("unpacking", total) as on_progress:
            inside = [(path.rpartition(MARK)[2], file) for path, file in loose]
            by_type = _folder_by_type(walker) if options.by == "type" else None
            done = unpack(groups, folder, context.disk, existing, on_progress, inside, by_type)
        faults = [*walker.faults, *done.faults]
    _tell(done, folder, context)
    status = note_faults(faults, context)
    return Status(status) if status else Status.REFUSED if done.refused else Status.OK


def _folder(groups: list[Group]) -> Path:
    """A new folder named after the archive; RefusedError when that is there, UsageError when there are several
    archives."""
    files = sorted({group.file for group in groups})
    if len(files) != 1 or groups[0].home:
        raise UsageError(f"{len(files)} archives are meant, so no folder can be named after one", "--to DIR")
    name = disk_names([files[0].rpartition("/")[2]])[0]
    folder = Path(name.partition(".")[0] or name if isinstance(name, str) else "unpacked")
    if folder.exists() or folder.is_symlink():
        raise RefusedError(
            f"{folder} already exists", "--to DIR with another folder, or with that one to write into it"
        )
    return folder


def _folder_by_type(walker: Walker) -> Callable[[Archive, int], str]:
    """What gives the folder of an entry: its type in a package, or the kind of its content."""
    from volvex.archive.object_types import object_types
    from volvex.asset.content_kind import entry_kind

    types: dict[int, list[str] | None] = {}

    def folder(archive: Archive, row: int) -> str:
        if id(archive) not in types:
            types[id(archive)] = object_types(archive)
        own = types[id(archive)]
        name = (
            own[row] if own is not None and own[row] else entry_kind(archive, row, archive.names[row], walker.library)
        )
        place = disk_names([name.replace("/", "_") or "other"])[0]
        return place if isinstance(place, str) else "other"

    return folder


def _tell(done: Unpacked, folder: Path, context: Context) -> None:
    skipped = f"; {count(done.skipped, 'file')} left as they were" if done.skipped else ""
    context.print(f"{count(done.files, 'file')}, {number(done.bytes)} bytes in {folder}{skipped}")
    for entry, place in done.renamed[:TOLD]:
        context.note(f"note: {entry} is {place} on disk")
    for entry, reason in done.refused[:TOLD]:
        context.complain(f"refused: {entry}: {reason}")
    for name, what in (("renamed", done.renamed), ("refused", done.refused)):
        if len(what) > TOLD:
            context.complain(f"and {len(what) - TOLD:,} more {name}")
