"""Building: only the archives that are affected are rewritten, everything else in them bit for bit."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any, Protocol

import numpy as np

from volvex import __version__
from volvex.archive.access.nested import entry_source
from volvex.archive.archive import Address, Archive
from volvex.archive.safe_names import quoted, shown, stays_inside
from volvex.archive.transfer.pack import encode_name
from volvex.archive.transfer.parallel import OnProgress, no_progress, verify
from volvex.archive.transfer.rebuild import file_chunks, rebuild_files, reopened, template_row
from volvex.bench.bench_file import fingerprint
from volvex.bench.changes import FileChange, changes, content_of
from volvex.bench.copies import spread
from volvex.bench.refusals import require_buildable
from volvex.bench.rename import learn
from volvex.bench.workbench import Workbench
from volvex.errors import FormatError, NotFoundError, RefusedError, VolvexError
from volvex.layout.write.plan import Added, Edit
from volvex.source import Spool, atomic, typed
from volvex.source.digest import Fingerprint, digest_bytes, digest_file, stamp_of

MANIFEST = "built.json"


@dataclass(frozen=True)
class Built:
    """A file that is ready to be installed. `base` is the original it was made from; None for a new file."""

    path: str
    size: int
    changes: int
    base: Fingerprint | None
    state: str = ""  # a digest of all that it was made of
    stamp: str = ""  # its size and time: while they hold, it is as it was built
    of: str = ""  # the file of the game whose changes are in it
    absent: bool = False  # the game is to have no such file
    lines: tuple[str, ...] = ()  # to be put into a list of the game; there is no file in `built`
    copies: int = 0  # of the changes, those that are there since another archive has the same content
    mod: str = ""  # the mod whose add-on it belongs to
    outside: str = ""  # the way whose folder, outside of the game's, the path is below


class Maker(Protocol):
    """Makes other files than the game's own of the changes of a file of the game."""

    @property
    def state(self) -> str: ...

    def make(
        self, bench: Workbench, name: str, changes: Sequence[FileChange], on_progress: OnProgress
    ) -> list[Built]: ...

    def finish(self, bench: Workbench, built: Sequence[Built]) -> list[Built]: ...


def to_build(bench: Workbench, found: Sequence[FileChange], only: Sequence[str] = ()) -> dict[str, list[FileChange]]:
    """The changes of each file of the game that is to be built; RefusedError for what cannot be."""
    by_file: dict[str, list[FileChange]] = {}
    for change in spread(bench, found, only):
        by_file.setdefault(bench.file_of(bench.home(change.path)[0]), []).append(change)
    require_buildable(bench, by_file)
    return by_file


def build(
    bench: Workbench, on_progress: OnProgress = no_progress, maker: Maker | None = None, only: Sequence[str] = ()
) -> list[Built]:
    """Make every file of the game that the bench's changes affect; the list of them, also written to `built/`.

    What an earlier build made of the same is kept. `maker` makes other files than the game's own of the changes of a
    file of the game. A change goes into every archive that has the same content under the same path, or into those of
    `only`. RefusedError when the game's file is another than the one from which something was taken and changed.
    """
    found = changes(bench)
    by_file = to_build(bench, found, only)
    layouts = _layouts(bench)
    states = {
        name: _state(bench, name, changes, f"{maker.state if maker else ''} {layouts}")
        for name, changes in by_file.items()
    }
    kept = _clear(bench, set(states.values()))
    built: list[Built] = []
    for name, some in sorted(by_file.items()):
        fresh = kept.get(states[name]) or [
            replace(built, state=states[name], stamp=_stamp(bench, built), of=name)
            for built in _counted((maker.make if maker else build_file)(bench, name, some, on_progress), some)
        ]
        built += fresh
    if maker:
        built = maker.finish(bench, built)
    learn(bench, found)
    value = {"built": 1, "files": [asdict(built) for built in built]}
    with atomic(bench.disk, bench.built / MANIFEST, durable=False) as file:
        bench.disk.write(file, (json.dumps(value, indent=1) + "\n").encode())
    return built


def is_current(bench: Workbench) -> bool:
    """Whether what was built is made of the bench's changes as they are now, all of them."""
    try:
        built = read_built(bench.built)
    except VolvexError:
        return False
    by_file: dict[str, list[FileChange]] = {}
    for change in changes(bench):
        by_file.setdefault(bench.file_of(bench.home(change.path)[0]), []).append(change)
    layouts = _layouts(bench)
    states = {one.state for one in built}
    whole = all(_is_whole(bench, one) for one in built)
    return (
        whole
        and bool(by_file)
        and all(_state(bench, name, some, f" {layouts}") in states for name, some in by_file.items())
    )


def _layouts(bench: Workbench) -> str:
    return digest_bytes(b"".join(file.read_bytes() for file in bench.library.files()))


def _counted(made: list[Built], changes: Sequence[FileChange]) -> list[Built]:
    """Built files that say how many of their changes are there for the sake of another archive."""
    copies = sum(bool(change.of) for change in changes)
    return [replace(built, copies=copies) for built in made] if copies else made


def read_built(folder: Path) -> list[Built]:
    """What `build` made; NotFoundError when it was not run."""
    path = folder / MANIFEST
    if not path.is_file():
        raise NotFoundError("nothing was built yet", "`volvex build`")
    try:
        return [_built_of(typed.mapping(one)) for one in typed.listed(typed.member(typed.load(path), "files"))]
    except ValueError as error:
        raise FormatError(path, f"not a valid list of built files: {error}", hint="`volvex build`") from error


def _built_of(record: dict[str, Any]) -> Built:
    path, base = typed.text(typed.member(record, "path")), typed.member(record, "base")
    if not stays_inside(path) or "\0" in path:
        raise ValueError("a path that leads out of the bench")
    size, changed = (typed.whole(typed.member(record, name)) for name in ("size", "changes"))
    state, stamp, of = (typed.text(record.get(name, "")) for name in ("state", "stamp", "of"))
    lines = tuple(map(typed.text, typed.listed(record.get("lines", []))))
    return Built(
        path,
        size,
        changed,
        fingerprint(typed.mapping(base)) if base is not None else None,
        state,
        stamp,
        of,
        absent=record.get("absent") is True,
        lines=lines,
        copies=typed.whole(record.get("copies", 0)),
        mod=typed.text(record.get("mod", "")),
        outside=typed.text(record.get("outside", "")),
    )


def _state(bench: Workbench, name: str, changes: Sequence[FileChange], layouts: str) -> str:
    """A digest of all that a file of the game is built from: the original, the changes, and what builds it."""
    original = bench.game.original(name)
    parts = [__version__, layouts, name, repr(Fingerprint.of(original)) if original is not None else ""]
    for change in changes:
        parts += [change.path, change.what, "" if change.what == "removed" else digest_file(content_of(bench, change))]
        parts += ["after", bench.after[change.path]] if change.path in bench.after else []
    return digest_bytes("\0".join(parts).encode("utf-8", "surrogateescape"))


def _clear(bench: Workbench, wanted: set[str]) -> dict[str, list[Built]]:
    """Remove what an earlier build made: its list first, so that half of it is never installed. What is wanted again,
    whole and untouched since, stays, and is returned by its state."""
    if not (bench.built / MANIFEST).exists():
        return {}
    earlier = read_built(bench.built)
    bench.disk.remove(bench.built / MANIFEST)
    kept: dict[str, list[Built]] = {}
    for built in earlier:
        kept.setdefault(built.state, []).append(built)
    kept = {
        state: made
        for state, made in kept.items()
        if state in wanted and all(_is_whole(bench, built) for built in made)
    }
    for built in earlier:
        if built.state not in kept:
            bench.disk.remove(bench.built / built.path)
    return kept


def _is_whole(bench: Workbench, built: Built) -> bool:
    path = bench.built / built.path
    if built.absent or built.lines:
        return not path.exists()
    return path.is_file() and stamp_of(path) == built.stamp


def _stamp(bench: Workbench, built: Built) -> str:
    return "" if built.absent or built.lines else stamp_of(bench.built / built.path)


def build_file(bench: Workbench, name: str, changes: Sequence[FileChange], on_progress: OnProgress) -> list[Built]:
    target, original = bench.built / name, bench.game.original(name)
    if changes[0].path == name and changes[0].what == "removed":
        return [Built(name, 0, 1, Fingerprint.of(original) if original else None, absent=True)]
    if changes[0].path == name:  # a file of its own
        with atomic(bench.disk, target, durable=False) as file:
            for chunk in file_chunks(content_of(bench, changes[0])):
                bench.disk.write(file, chunk)
        return [Built(name, target.stat().st_size, 1, Fingerprint.of(original) if original else None)]
    bench.require_original(name)
    if bench.renewed(name):
        check_origins(bench, changes)
    archive = bench.archive(name)
    if archive is None:
        raise FormatError(name, "unknown format, so its entries cannot be changed")
    bench.disk.make_folder(target.parent)
    with Spool(target.parent) as spool:
        work = work_on(bench, name, archive, changes, spool)
        written = rebuild_files(archive, work.edit, target, bench.disk, on_progress)
    verify_built(bench, work, target.parent, set(written))
    folder = name.rpartition("/")[0]
    return [_built(bench, f"{folder}/{text}" if folder else text, size, len(changes)) for text, size in written.items()]


def _built(bench: Workbench, name: str, size: int, count: int) -> Built:
    original = bench.game.original(name)
    return Built(name, size, count, Fingerprint.of(original) if original else None)


def check_origins(bench: Workbench, changes: Sequence[FileChange]) -> None:
    """The archive is another than when the bench was made: what was changed must still be what was taken."""
    for change in changes:
        known = bench.taken.get(change.path)
        if known is not None and digest_bytes(b"".join(bench.original_content(change.path))) != known.digest:
            raise RefusedError(
                f"{change.path}: the game's file has changed since it was taken (a game update?)",
                f"keeping a copy, then `volvex take --overwrite {quoted(change.path)}`",
            )


@dataclass
class Work:
    """What is to be done to one archive: its edit, and what is to be done to archives within it, by their rows."""

    name: str
    archive: Archive
    edit: Edit
    changed: list[FileChange]
    inner: dict[int, Work]


def _after(bench: Workbench, name: str, path: str) -> int | None:
    """The entry behind which a new one stands, if its author chose one."""
    chosen = bench.after.get(path)
    if chosen is None:
        return None
    row = bench.row(chosen)
    if row is None:
        raise NotFoundError(
            f"{name} has no {shown(chosen)} any more, behind which {shown(path)} is to stand",
            "volvex swap --new, without --after",
        )
    return row


def work_on(bench: Workbench, name: str, archive: Archive, changes: Sequence[FileChange], spool: Spool) -> Work:
    """The work on an archive, from the inside out: those within it are rewritten first, as new content of its
    entries."""
    work = Work(name, archive, Edit(), [], {})
    within: dict[str, list[FileChange]] = {}
    places: dict[int, str] = {}  # of what is replaced, where it lies on the bench
    for change in changes:
        home, inner = bench.home(change.path)
        if home != name:
            within.setdefault(_next_inner(bench, name, home), []).append(change)
            continue
        work.changed.append(change)
        row = bench.row(change.path)
        if change.what == "removed":
            if row is None:
                raise NotFoundError(f"{name} has no {shown(inner)} any more", f"`volvex undo {quoted(change.path)}`")
            work.edit.removed.add(row)
            continue
        like = template_row(archive, inner) if row is None else row
        content = archive.encode(spool, file_chunks(content_of(bench, change)), like)
        if row is None:
            after = _after(bench, name, change.path)
            work.edit.added.append(Added(encode_name(archive, inner), like, content, after))
        elif row in places:
            raise RefusedError(
                f"{places[row]} and {change.path} are the same entry of {name}", "keeping one of the two files"
            )
        else:
            work.edit.replaced[row], places[row] = content, change.path
    for path, few in sorted(within.items()):
        row, below = bench.outer_of(path)[1], bench.require_archive(path)
        work.inner[row] = work_on(bench, path, below, few, spool)
        made = below.file_plan(work.inner[row].edit, bench.folder)
        work.edit.replaced[row] = archive.encode(spool, made.chunks(), row)
    return work


def _next_inner(bench: Workbench, name: str, home: str) -> str:
    """The archive right within `name` through which a path leads to another one below it."""
    while (outer := bench.outer_of(home)[0]) != name:
        home = outer
    return home


def verify_built(bench: Workbench, work: Work, folder: Path, names: set[str]) -> None:
    """What was changed can be read back from what was built, at every depth."""
    with reopened(work.archive, folder, names) as written:
        verify_entries(bench, work, written)


def verify_entries(bench: Workbench, work: Work, written: Archive) -> None:
    rows = sorted(_rows_then(bench, work, written))
    faults = verify(written, np.array(rows, dtype=np.int64))
    if faults:
        raise faults[0]
    for row, below in work.inner.items():
        place = written.row_at(_address_then(work, row))
        if place is None:
            raise FormatError(written.source.name, f"{shown(work.archive.names[row])} is missing from the built file")
        source = entry_source(written, place, below.name)
        with below.archive.reread(source) as inner:
            verify_entries(bench, below, inner)


def _rows_then(bench: Workbench, work: Work, written: Archive) -> set[int]:
    """The entries of what is built that were changed or added, or lie on the way to what was."""
    found: set[int] = set(work.inner)
    rows: set[int] = set()
    for change in work.changed:
        row = bench.row(change.path)
        if row is not None:
            found |= {row} - work.edit.removed
        else:
            rows |= _require_rows(written, bench.home(change.path)[1], None)
    return rows.union(*(_require_rows(written, work.archive.names[row], _address_then(work, row)) for row in found))


def _require_rows(written: Archive, name: str, address: Address | None) -> set[int]:
    """An entry of what is built by its address, or its name; FormatError when it is not there."""
    row = written.row_at(address) if address is not None else None
    found = {row} if row is not None else set(written.rows_of(name))  # a key's name may change with its content
    if not found:
        raise FormatError(written.source.name, f"{shown(name)} is missing from the built file")
    return found


def _address_then(work: Work, row: int) -> Address:
    """The address of an entry in what is built: of several with its name, those that are left out no longer count."""
    name, number = work.archive.addresses[row]
    return name, number - sum(
        work.archive.addresses[number][0] == name and number < row for number in work.edit.removed
    )


__all__ = ["Built", "build", "read_built"]
