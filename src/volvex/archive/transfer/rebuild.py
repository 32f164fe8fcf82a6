"""Archives rewritten: new content is encoded into a spool, the rest is copied as it lies."""

from __future__ import annotations

from collections.abc import Container, Iterable, Iterator
from pathlib import Path
from typing import BinaryIO

from volvex.archive.access.numbered import numbered
from volvex.archive.access.pieces import MOST
from volvex.archive.archive import Archive
from volvex.archive.transfer.parallel import OnProgress, no_progress
from volvex.errors import FormatError, NotFoundError
from volvex.layout.write.plan import BLANK, Edit, Piece, Plan
from volvex.source import Beside, Disk, FileSource, JoinedSource, Source, WindowSource, atomic
from volvex.source.outputs import Outputs
from volvex.source.source import CHUNK


def template_row(archive: Archive, name: str) -> int:
    """The entry most like a new one: in the same folder, with the same ending; BLANK where there is none.

    NotFoundError in an empty archive whose format cannot say what an entry is without another.
    """
    if len(archive) == len(archive.folders) and archive.takes_blank:
        return BLANK
    if not len(archive):
        raise NotFoundError(f"{archive.source.name} has no entry that a new one could be like")
    folder, _, last = name.rpartition("/")
    key = (folder, last.rpartition(".")[2])
    if key not in archive.template_row:  # the same for all new entries of a folder with one ending
        archive.template_row[key] = max(_files(archive), key=lambda row: _likeness(archive.names[row], *key))
    return archive.template_row[key]


def _files(archive: Archive) -> Iterable[int]:
    """The entries that are no folders; all when there are only folders."""
    return [row for row in range(len(archive)) if row not in archive.folders] or range(len(archive))


def _likeness(name: str, folder: str, extension: str) -> tuple[int, bool]:
    """How many folders a name shares with another from the top, and whether its ending is the same."""
    other, _, base = name.rpartition("/")
    common = 0
    for ours, theirs in zip(folder.split("/"), other.split("/"), strict=False):
        if ours != theirs:
            break
        common += 1
    return common, base.rpartition(".")[2] == extension


def file_chunks(path: Path) -> Iterator[bytes]:
    """A file's bytes in pieces."""
    with path.open("rb") as file:
        while chunk := file.read(CHUNK):
            yield chunk


def rebuild(
    archive: Archive,
    edit: Edit,
    target: Path,
    disk: Disk,
    on_progress: OnProgress = no_progress,
    overwrite: bool = True,
) -> dict[str, int]:
    """Write an archive with changes to `target`, with all its volumes or pieces under names that follow the target's:
    every file or none; their names and sizes in bytes, the archive's own first.

    What was written is opened again before it gets its names. RefusedError when one of them already exists, unless
    `overwrite`.
    """
    names = archive.names_beside(target.name)
    with Outputs(disk, overwrite) as out:
        made = archive.file_plan(edit, target.parent)
        for name in ({target.name: ""} | dict.fromkeys(names.values(), "")) if archive.cut is None else ():
            out.check(target.with_name(name))
        if archive.cut is not None:
            spans = [
                (numbered(target.name, index), start, end)
                for index, (_, start, end) in enumerate(archive.cut.spans(made.size))
            ]
            plans = {name: (made, start, end) for name, start, end in spans}
        else:
            sources = archive.sources_beside()
            others = {new: made.others.get(old) or _whole(sources[old]) for old, new in names.items()}
            plans = {name: (plan, 0, plan.size) for name, plan in {target.name: made, **others}.items()}
        for name, (plan, start, end) in plans.items():
            with out.file(target.with_name(name)) as file:
                _write(plan, start, end, file, disk, on_progress)
        parts = {name: out.part(target.with_name(name)) for name in plans}
        if archive.cut is not None:
            source: Source = JoinedSource([FileSource(part) for part in parts.values()], target.name)
        else:
            source = FileSource(parts[target.name], target.as_posix())
        _check_written(
            archive, edit, made.size, source, lambda name: FileSource(parts[name]) if name in parts else None
        )
    return {name: end - start for name, (_, start, end) in plans.items()}


def _whole(source: Source) -> Plan:
    """A file as it is."""
    return Plan([Piece(source=source, offset=0, size=source.size)] if source.size else [], source.size)


def _rebuild(
    archive: Archive, edit: Edit, target: Path, disk: Disk, on_progress: OnProgress, durable: bool = False
) -> dict[str, int]:
    made = archive.file_plan(edit, target.parent)
    for name, other in made.others.items():  # volumes, of which only those that change are in the plan
        with atomic(disk, target.with_name(name), durable) as file:
            _write(other, 0, other.size, file, disk, on_progress)
    with atomic(disk, target, durable) as file:
        _write(made, 0, made.size, file, disk, on_progress)
        file.flush()
        source = FileSource(Path(file.name), target.as_posix())
        _check_written(archive, edit, made.size, source, _written_to(target.parent, made.others))
    return {target.name: made.size, **{name: other.size for name, other in made.others.items()}}


def _written_to(folder: Path, names: Container[str]) -> Beside:
    """The files that were written into a folder."""
    return lambda name: FileSource(folder / name) if name in names and (folder / name).is_file() else None


def rebuild_files(
    archive: Archive, edit: Edit, target: Path, disk: Disk, on_progress: OnProgress = no_progress
) -> dict[str, int]:
    """The same for an archive that may be cut into pieces: of those only the ones that differ are written, beside
    `target`.

    The files' names and sizes. A piece that is no longer needed is left empty.
    """
    if archive.cut is None:
        return _rebuild(archive, edit, target, disk, on_progress)
    made, written = archive.file_plan(edit, target.parent), dict[str, int]()
    spans = list(archive.cut.spans(made.size))
    spans += [(name, made.size, made.size) for name in archive.cut.names[len(spans) :]]
    for name, start, end in spans:
        if name in archive.cut.names and start < end and _unchanged(made, archive, start, end):
            continue
        with atomic(disk, target.with_name(name), durable=False) as file:
            _write(made, start, end, file, disk, on_progress)
        written[name] = end - start
    _check_written(archive, edit, made.size, _joined_again(archive, target.parent))
    return written


def _unchanged(made: Plan, archive: Archive, start: int, end: int) -> bool:
    """Whether a stretch of the new file is the same stretch of the old one, in which it ends at the same place."""
    at = 0
    for piece in made.pieces:
        if at <= start and end <= at + piece.size:
            same = piece.source is archive.source and piece.offset == at
            return same and (end < made.size or made.size == archive.source.size)
        at += piece.size
    return False


def _write(made: Plan, start: int, end: int, file: BinaryIO, disk: Disk, on_progress: OnProgress) -> None:
    """Write a stretch of the new file."""
    at = 0
    for piece in made.pieces:
        first, last = max(start, at), min(end, at + piece.size)
        if first < last:
            if piece.source is None:
                disk.write(file, piece.data[first - at : last - at])
            else:
                disk.copy_span(piece.source, piece.offset + first - at, last - first, file)
            on_progress(last - first)
        at += piece.size


def reopened(archive: Archive, folder: Path, names: Container[str]) -> Archive:
    """The archive as it was written into a folder; pieces that were not are taken from where they were."""
    source = (
        _joined_again(archive, folder)
        if archive.cut is not None
        else FileSource(folder / archive.source.name.rpartition("/")[2])
    )
    try:
        return archive.reread(source, _written_to(folder, names))
    except BaseException:
        source.close()
        raise


def _joined_again(archive: Archive, folder: Path) -> Source:
    assert archive.cut is not None
    parts: list[Source] = []
    for index in range(MOST):
        name = archive.cut.name(index)
        if (folder / name).is_file():
            parts.append(FileSource(folder / name))
        elif index < len(archive.parts):
            old = archive.parts[index]
            parts.append(WindowSource(old, 0, old.size, old.name))
        else:
            break
    return JoinedSource(parts, archive.source.name)


def _check_written(archive: Archive, edit: Edit, size: int, source: Source, beside: Beside | None = None) -> None:
    try:
        written = archive.reread(source, beside)
    except BaseException:
        source.close()
        raise
    with written:
        wanted = len(archive) + len(edit.added) - len(edit.removed)
        if source.size != size or len(written) != wanted:
            raise FormatError(
                source.name,
                f"{source.size} bytes and {len(written)} entries were written, {size} and {wanted} were planned",
            )
