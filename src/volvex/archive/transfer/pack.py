"""A folder into an archive like another one."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from volvex.archive.archive import Archive
from volvex.archive.safe_names import Refusal
from volvex.archive.transfer.parallel import OnProgress, no_progress, parallel
from volvex.archive.transfer.rebuild import file_chunks, rebuild, template_row
from volvex.errors import FormatError, NotFoundError, RefusedError
from volvex.layout.write.plan import Added, Edit, NewContent
from volvex.source import Disk, Spool
from volvex.source.disk import is_leftover


@dataclass(frozen=True)
class Packed:
    """The result of packing: how many entries are the same, changed, new or left out."""

    files: dict[str, int]  # the files that were written, and their sizes
    same: int
    changed: list[str]
    added: list[str]
    removed: list[str]
    kept: list[str]  # entries that cannot be taken out, and so stay as they are
    leftovers: list[str]  # files that an interrupted command left there

    @property
    def size(self) -> int:
        """Bytes of all files."""
        return sum(self.files.values())


def files_below(folder: Path) -> dict[str, Path]:
    """Every file below a folder by its relative path, sorted; links are refused."""
    found: dict[str, Path] = {}
    for path in sorted(folder.rglob("*")):
        if path.is_symlink():
            raise RefusedError(f"{path} is a link; what it leads to may be anything", "a copy of the file in its place")
        if path.is_file() and not is_leftover(path.name):
            found[path.relative_to(folder).as_posix()] = path
    return found


def pack(
    folder: Path,
    like: Archive,
    target: Path,
    disk: Disk,
    on_progress: OnProgress = no_progress,
    overwrite: bool = True,
    allow_empty: bool = True,
) -> Packed:
    """Write the files below `folder` as an archive in the format of `like`.

    Files that equal an entry of `like` keep its stored bytes; others are encoded as that entry was, or, when they are
    new, as the entry most like them. Entries without a file are left out; those that cannot have one stay as they are.
    RefusedError for a folder that has none of the archive's files, unless `allow_empty`.
    """
    if not folder.is_dir():
        raise NotFoundError(f"{folder} is not a folder")
    files = files_below(folder)
    places = list(enumerate(like.disk_names))
    rows = {place: row for row, place in places if not isinstance(place, Refusal)}
    if not allow_empty and not any(name in rows for name in files):
        what = "has none of the files" if files else "is empty: it has none of the files"
        raise RefusedError(
            f"{folder} {what} of {like.source.name}", "the folder that `volvex unpack` made of it, or --anyway"
        )
    disk.make_folder(target.parent)
    with Spool(target.parent) as spool:
        edit, changed = Edit(), []
        kept = {rows[name] for name in files if name in rows}
        kept |= {
            row for row, place in places if isinstance(place, str) and place.endswith("/") and (folder / place).is_dir()
        }
        stays = {row for row, place in places if row not in kept and (isinstance(place, Refusal) or like.refusal(row))}
        kept |= stays
        edit.removed = set(range(len(like))) - kept

        def encode(name: str) -> tuple[str, NewContent | None]:
            row = rows.get(name)
            if row is not None and equal(like, row, files[name]):
                return name, None
            return name, like.encode(
                spool, _told(files[name], on_progress), template_row(like, name) if row is None else row
            )

        made = dict(parallel(encode, files))
        for name in files:  # in this order, whichever was ready first
            content = made[name]
            if content is None:
                continue
            if name in rows:
                edit.replaced[rows[name]] = content
                changed.append(name)
            else:
                edit.added.append(Added(encode_name(like, name), template_row(like, name), content))
        written = rebuild(like, edit, target, disk, on_progress, overwrite)
    added = [name for name in files if name not in rows]
    same = len(files) - len(changed) - len(added)
    left_out, stayed = ([like.names[row] for row in sorted(numbers)] for numbers in (edit.removed, stays))
    leftovers = sorted(path.relative_to(folder).as_posix() for path in folder.rglob("*") if is_leftover(path.name))
    return Packed(written, same, changed, added, left_out, stayed, leftovers)


def encode_name(archive: Archive, name: str) -> bytes:
    """A new entry's name as the archive stores names: its encoding, and backslashes where it has only those."""
    if archive.backslashed:
        name = name.replace("/", "\\")
    try:
        return archive.encode_name(name)
    except UnicodeEncodeError as error:
        raise FormatError(
            archive.source.name,
            f"the name {name} cannot be written in {archive.entries.names.encoding}",
            hint="another name",
        ) from error


def _told(path: Path, on_progress: OnProgress) -> Iterator[bytes]:
    for chunk in file_chunks(path):
        on_progress(len(chunk))
        yield chunk


def equal(archive: Archive, row: int, path: Path) -> bool:
    """Whether a file has an entry's content."""
    if path.stat().st_size != int(archive.entries.size[row]):
        return False
    with path.open("rb") as file:
        return all(file.read(len(chunk)) == chunk for chunk in archive.chunks(row)) and not file.read(1)
