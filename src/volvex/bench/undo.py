"""Undoing on a bench: edits, new files and drops, each by its path."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

from volvex.archive.access.patterns import WILD, path_pattern
from volvex.archive.safe_names import shown
from volvex.bench.aside import keep_aside
from volvex.bench.changes import FileChange, changes
from volvex.bench.open_folder import is_edited
from volvex.bench.opened import SPRITE
from volvex.bench.workbench import Workbench
from volvex.data import Change, require_data
from volvex.data.differences import differences
from volvex.data.verify import edited
from volvex.errors import NotFoundError
from volvex.source import atomic
from volvex.source.digest import digest_file

WORDS = {"changed": "original restored", "added": "removed from the bench", "removed": "included again"}


@dataclass(frozen=True)
class Undone:
    """A change that was undone, and where the file is kept that was there."""

    path: str
    what: str
    kept: str = ""


def undo(bench: Workbench, paths: Sequence[str], write: bool = True) -> list[Undone]:
    """Undo all changes that some paths mean: files, folders, patterns; empty for all of them.

    NotFoundError, and nothing is undone, when a path means no change.
    """
    found = changes(bench)
    opened = [file for file in bench.opened if is_edited(bench, file)]  # edits that were not taken over
    done = list[Undone]()
    wanted = list[FileChange]()
    for path in paths:
        some = [file for file in opened if _lies_at(path, file, bench.opened[file].path)]
        wanted += [] if some and path in opened else _meant(bench, path, found, bool(some))
        done += (Undone(file, "edit not taken over", _forget(bench, file) if write else "") for file in some)
        opened = [file for file in opened if file not in some]
    for change in dict.fromkeys(wanted):
        kept = _undo(bench, change) if write else ""
        done.append(Undone(change.path, WORDS[change.what], kept))
    if write:
        bench.save()
    return done


def undo_values(
    bench: Workbench, path: str, row: str, fields: Collection[str] = (), sheet: str = "", write: bool = True
) -> list[Change]:
    """Give a record of an edited file its original values again, or some of its fields; the changes that this makes.

    NotFoundError when nothing of it was changed.
    """
    (change,) = _meant(bench, path, [change for change in changes(bench) if change.what == "changed"])[:1]
    document = require_data((bench.files / change.path).read_bytes(), bench.library, change.path)
    original = require_data(b"".join(bench.original_content(change.path)), bench.library, change.path)
    back = [
        change
        for change in differences(document, original)
        if change.id == row
        and sheet in ("", change.sheet)
        and (not fields or change.field in fields or change.what != "set")
    ]
    if not back:
        raise NotFoundError(
            f"{shown(change.path)}: row {shown(row)} is as the game has it", "`volvex changes` to list the others"
        )
    if write:
        data = edited(document, back)
        with atomic(bench.disk, bench.files / change.path, durable=False) as out:
            bench.disk.write(out, data)
    return back


def _lies_at(path: str, file: str, place: str) -> bool:
    """Whether a path means a file of the folder `open`: by its own path, or by that of what it is of."""
    return not path or any(one == path or one.startswith(f"{path}/") for one in (file, place))


def _forget(bench: Workbench, file: str) -> str:
    """Take an edited file of the folder `open` away: where it is kept. The next command writes it again."""
    kept = keep_aside(bench.folder, bench.folder / file, file, bench.disk)
    known = bench.opened[file]
    if known.kind == SPRITE:  # all frames of a sheet are written together
        bench.disk.remove(bench.folder / file)
        del bench.opened[file]
    else:
        bench.opened[file] = replace(known, digest=digest_file(bench.folder / file), of="")
    return kept


def _meant(bench: Workbench, path: str, found: Sequence[FileChange], may_lack: bool = False) -> list[FileChange]:
    """The changes that a path means; NotFoundError when there are none, unless it `may_lack` them."""
    changes = [change for change in found if not path or change.path == path or change.path.startswith(f"{path}/")]
    if path and len(changes) < len(found):  # a picture is undone with its levels in other files
        from volvex.bench.assets import files_beside

        beside = {other for one in {path, *(change.path for change in changes)} for other in files_beside(bench, one)}
        changes += [change for change in found if change.path in beside and change not in changes]
    if not changes and WILD.search(path):
        changes = [change for change in found if path_pattern(path).fullmatch(change.path)]
    if not changes and not may_lack and not WILD.search(path):  # an entry's own name, where the disk has another for it
        places = {bench.place_of(name, row) for name, row in bench.select(path)}
        changes = [change for change in found if change.path in places]
    if not changes and not may_lack:
        raise NotFoundError(f"no changes at {shown(path or 'all')}", "`volvex changes` to list them")
    return changes


def _undo(bench: Workbench, change: FileChange) -> str:
    """Undo one change; where the file is kept that was there, empty when there was none."""
    bench.dropped -= {change.path}
    file = bench.files / change.path
    if change.what == "removed" or not file.is_file():
        return ""
    kept = keep_aside(bench.folder, file, change.path, bench.disk)
    if change.what == "added":
        bench.disk.remove(file)
        bench.taken.pop(change.path, None)
    else:
        with atomic(bench.disk, file, durable=False) as out:
            for chunk in bench.original_content(change.path):
                bench.disk.write(out, chunk)
    return kept
