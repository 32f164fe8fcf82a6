"""The folder `open` of a bench: files for other programs. What is the same for data and all kinds of assets."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

from volvex.archive.safe_names import quoted
from volvex.bench.aside import keep_aside
from volvex.bench.opened import OpenedAsset, OpenedFile
from volvex.bench.workbench import Workbench
from volvex.errors import NotFoundError, RefusedError, VolvexError
from volvex.source import atomic
from volvex.source.digest import digest_bytes, digest_file

FOLDER = "open"


def write_file(bench: Workbench, target: Path, data: bytes) -> None:
    """Write a file of the bench in one step."""
    with atomic(bench.disk, target, durable=False) as out:
        bench.disk.write(out, data)


def is_edited(bench: Workbench, file: str) -> bool:
    """Whether a file of the folder is another than the one that was written; True for a file that was not."""
    known, source = bench.opened.get(file), bench.folder / file
    return source.is_file() and (known is None or digest_file(source) != known.digest)


def settle_edited(bench: Workbench, files: Iterable[str], again: bool) -> None:
    """Keep the edited ones of these files aside when they are to be written `again`; RefusedError when not."""
    for file in [file for file in files if is_edited(bench, file)]:
        if not again:
            raise RefusedError(f"{file} was edited", "--overwrite to write it again; your file is kept in `undone`")
        bench.on_kept(file, keep_aside(bench.folder, bench.folder / file, file, bench.disk))


def replace_file(bench: Workbench, path: str, data: bytes) -> None:
    """Put other content in the place of something of the bench; what a user made of it is kept aside."""
    bench.keep_edited(path, digest_bytes(data))
    write_file(bench, bench.files / path, data)


def is_own(bench: Workbench, path: str) -> bool:
    """Whether something is in the bench as the game has it, or is not there."""
    own, file = bench.taken.get(path), bench.files / path
    return not file.is_file() or (own is not None and own.digest == digest_file(file))


def digest_of(bench: Workbench, places: Sequence[str]) -> str:
    """What something of several files is now: its own file, and those beside it of which it is made where they are on
    the bench."""
    digests = [digest_file(bench.files / place) if (bench.files / place).is_file() else "" for place in places]
    return digests[0] if not any(digests[1:]) else digest_bytes("".join(digests).encode())


@dataclass(frozen=True)
class State:
    """The files of one thing in the folder: those that are there, those that were edited, and whether the thing itself
    was."""

    opened: dict[str, OpenedFile]
    edited: list[str]
    moved: bool


def state_of(bench: Workbench, path: str, files: Sequence[str], what: str = "") -> State:
    """How the files of a thing stand, of which one may be edited; several where none is named (`what`).

    NotFoundError when the thing is no longer on the bench, RefusedError when two of its files were edited, or one and
    the thing itself.
    """
    opened = {file: bench.opened[file] for file in files if file in bench.opened and (bench.folder / file).is_file()}
    for file in set(files) - set(opened):
        bench.opened.pop(file, None)
    edited = [file for file in opened if is_edited(bench, file)]
    target = bench.files / path
    moved = target.is_file() and any(digest_of(bench, (path, *known.beside)) != known.of for known in opened.values())
    if edited and not target.is_file():
        raise NotFoundError(
            f"{edited[0]} belongs to {path}, which is no longer on the bench",
            f"`volvex take {quoted(path)}`, or removing {edited[0]}",
        )
    if len(edited) > 1 and what:
        raise RefusedError(f"{' and '.join(edited)} are the same {what} and were both edited", "removing one of them")
    stale = [file for file in edited if digest_of(bench, (path, *opened[file].beside)) != opened[file].of]
    if stale or (edited and moved and not what):  # of several files that belong together, each must be as the thing is
        raise RefusedError(
            f"{edited[0]} and {path} were both edited",
            f"`volvex undo {quoted(edited[0])}` to keep the other one",
        )
    return State(opened, edited, moved)


@dataclass(frozen=True)
class SyncResult:
    """The result of taking over files of the folder: of what, which, what was done, and notes."""

    path: str
    file: str
    what: str
    notes: tuple[str, ...] = ()


def sync_one(
    bench: Workbench,
    path: str,
    files: Sequence[str],
    what: str,
    take_over: Callable[[str], SyncResult],
    write_again: Callable[[str], object],
) -> list[SyncResult]:
    """Take over the edited one of the files of a thing, and write the others again when it changed.

    `what` names the thing in errors, which are those of `state_of`. A file that cannot be written again is left, with
    the reason.
    """
    state = state_of(bench, path, files, what)
    if not state.edited and not state.moved:
        return []
    done = [take_over(file) for file in state.edited]
    for file in sorted(set(state.opened) - set(state.edited)):
        try:
            write_again(file)
            done.append(SyncResult(path, file, "rewritten"))
        except VolvexError as error:
            done.append(SyncResult(path, file, f"left as it was: {error.message}"))
    bench.save()
    return done


def asset_of(bench: Workbench, file: str) -> OpenedAsset:
    """The record of a file that is of an asset."""
    known = bench.opened[file]
    assert isinstance(known, OpenedAsset), file
    return known


def counted(number: int, noun: str, plural: str = "") -> str:
    """A number with its noun."""
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"
