"""Entries into a folder that mirrors their tree. Nothing is overwritten unless asked for, nothing leaves the folder."""

from __future__ import annotations

import errno
import os
import shutil
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from volvex.archive.access.paths import Group
from volvex.archive.archive import Archive
from volvex.archive.safe_names import Refusal
from volvex.archive.transfer.parallel import OnProgress, batches, no_progress, parallel
from volvex.archive.transfer.rebuild import file_chunks
from volvex.errors import RefusedError, VolvexError
from volvex.source import Disk

# what disks answer to a name that is too long for them, or has characters that they lack
UNFIT = (errno.ENAMETOOLONG, errno.EINVAL, errno.EILSEQ)


@dataclass
class Unpacked:
    """The result of unpacking: what was written, skipped and refused."""

    files: int = 0
    bytes: int = 0
    skipped: int = 0
    refused: list[tuple[str, str]] = field(default_factory=list)  # entry, reason
    renamed: list[tuple[str, str]] = field(default_factory=list)  # entry, where it went
    folders: list[str] = field(default_factory=list)  # folders that are entries of their own
    faults: list[VolvexError] = field(default_factory=list)


FolderFor = Callable[[Archive, int], str]


@dataclass(frozen=True)
class _Job:
    archive: Archive
    row: int
    target: str


def unpack(
    groups: Sequence[Group],
    folder: Path,
    disk: Disk,
    existing: str = "refuse",
    on_progress: OnProgress = no_progress,
    files: Sequence[tuple[str, Path]] = (),
    folder_for: FolderFor | None = None,
) -> Unpacked:
    """Write entries below `folder`; with several archives each gets a folder of its own name. `files` are copied to
    their paths there.

    `existing` says what happens to files that are there: `refuse` (RefusedError before anything is written), `skip` or
    `replace`. `folder_for` gives a folder below which an entry goes, by its archive and row. Entries that are damaged
    or whose names lead elsewhere are reported, the rest comes out.
    """
    done = Unpacked()
    prefixes = _prefixes({group.root for group in groups})
    entered = {(id(archive), row) for group in groups for archive, row in group.above[-1:]}
    jobs = [job for group in groups for job in _jobs(group, prefixes[group.root], entered, done)]
    if folder_for is not None:
        jobs = [replace(job, target=f"{folder_for(job.archive, job.row)}/{job.target}") for job in jobs]
    jobs = _alone(jobs, [target for target, _ in files], done)
    _refuse_bomb(jobs, folder)
    for archive in {id(group.archive): group.archive for group in groups}.values():
        archive.check_overlaps()
    kept = _settle_existing([*(job.target for job in jobs), *(target for target, _ in files)], folder, existing, done)
    jobs = [job for job in jobs if job.target in kept]
    files = [(target, path) for target, path in files if target in kept]
    targets = [*(job.target for job in jobs), *(target for target, _ in files)]
    _make_folders([*(target.rpartition("/")[0] for target in targets), *done.folders], folder, disk)
    for target, path in files:
        size = disk.write_atomic(f"{folder}/{target}", file_chunks(path))
        done.files, done.bytes = done.files + 1, done.bytes + size
        on_progress(size)
    by_archive: dict[int, list[_Job]] = {}
    for job in jobs:
        by_archive.setdefault(id(job.archive), []).append(job)
    for of_archive in by_archive.values():
        _write_all(of_archive, folder, disk, done, on_progress)
    return done


def _prefixes(paths: set[str]) -> dict[str, str]:
    """The folder of each archive: none for a single one, otherwise its path without what all have in common."""
    if len(paths) == 1:
        return dict.fromkeys(paths, "")
    whole = {path: Path(path).resolve() for path in paths}  # without `..`, which would lead out of the target
    if len({full.anchor for full in whole.values()}) > 1:  # on several drives, which have nothing in common
        return {path: f"{number}-{whole[path].name}/" for number, path in enumerate(sorted(paths), 1)}
    common = os.path.commonpath([path.parent for path in whole.values()])
    return {path: f"{full.relative_to(common).as_posix()}/" for path, full in whole.items()}


def _folder_of(group: Group, before: str) -> str | Refusal:
    """Where the entries of an archive within archives go: a folder of the entry's name."""
    for archive, row in group.above:
        place = archive.disk_names[row]
        if isinstance(place, Refusal):
            return place
        before += place + "/"
    return before


def _jobs(group: Group, before: str, entered: set[tuple[int, int]], done: Unpacked) -> Iterator[_Job]:
    archive, home = group.archive, _folder_of(group, before)
    if isinstance(home, Refusal):
        done.refused.append((group.path, home.reason))
        return
    places = archive.disk_names
    for row in group.rows.tolist():
        if (id(archive), row) in entered:  # its own entries come out in its place
            continue
        place = places[row]
        reason = place.reason if isinstance(place, Refusal) else archive.refusal(row)
        if isinstance(place, Refusal) or reason:
            done.refused.append((archive.label(row), reason))
            continue
        if row in archive.folders:
            done.folders.append(home + place.rstrip("/"))
            continue
        if place != archive.names[row]:
            done.renamed.append((archive.label(row), home + place))
        yield _Job(archive, row, home + place)


def _alone(jobs: list[_Job], files: Sequence[str], done: Unpacked) -> list[_Job]:
    """One entry for each place: of several archives in one tree two may come out at the same, and the other is
    refused."""
    at: dict[str, _Job | None] = {os.path.normcase(target): None for target in files}
    for job in jobs:
        there = at.setdefault(os.path.normcase(job.target), job)
        if there is None or (there.archive, there.row) != (job.archive, job.row):
            done.refused.append((job.archive.label(job.row), f"another file comes out as {job.target}"))
    return [job for job in at.values() if job is not None]


def _refuse_bomb(jobs: list[_Job], folder: Path) -> None:
    """Nothing when the disk has room for all that would come out; RefusedError otherwise, before anything is
    written."""
    wanted = sum(int(job.archive.entries.size[job.row]) for job in jobs)
    here = next(path for path in (folder, *folder.absolute().parents) if path.exists())
    free = shutil.disk_usage(here).free
    if wanted > free:
        raise RefusedError(
            f"{wanted:,} bytes would come out, and there is room for {free:,} in {folder}",
            "unpacking a part of it, or another disk",
        )


def _settle_existing(targets: list[str], folder: Path, existing: str, done: Unpacked) -> set[str]:
    """Which of the files are to be written."""
    if existing == "replace" or not folder.exists():
        return set(targets)
    there = [target for target in targets if os.path.lexists(folder / target)]
    if there and existing == "refuse":
        raise RefusedError(
            f"{len(there)} of {len(targets)} files are in {folder} already, such as {there[0]}",
            "an empty folder, --skip-existing or --overwrite",
        )
    done.skipped = len(there)
    return set(targets) - set(there)


def _make_folders(wanted: list[str], folder: Path, disk: Disk) -> None:
    for text in sorted(set(wanted)):
        here = folder
        for part in text.split("/") if text else ():
            here = here / part
            if here.is_symlink():
                raise RefusedError(f"{here} is a link, which may lead out of {folder}", "another folder")
        disk.make_folder(folder / text)


def _write_all(jobs: list[_Job], folder: Path, disk: Disk, done: Unpacked, on_progress: OnProgress) -> None:
    archive = jobs[0].archive
    targets = {job.row: job.target for job in jobs}
    base = str(folder)

    def write(batch: list[int]) -> tuple[int, int, list[VolvexError]]:
        files = size = 0
        faults: list[VolvexError] = []
        for row in batch:
            try:
                written = disk.write_atomic(f"{base}/{targets[row]}", archive.chunks(row))
                files, size = files + 1, size + written
                on_progress(written)
            except VolvexError as error:
                faults.append(error)
            except OSError as error:
                if error.errno not in UNFIT:
                    raise
                faults.append(RefusedError(f"{archive.label(row)}: this disk has no such names: {error.strerror}"))
        return files, size, faults

    for files, size, faults in parallel(write, batches(archive, np.array(sorted(targets), dtype=np.int64))):
        done.files, done.bytes = done.files + files, done.bytes + size
        done.faults += faults
