"""Building in place: only what differs is written into the game's own file, once its original is safe.

New content goes into the hole that the old one leaves, or behind all others, and the directory is rewritten: the time
depends on the change, not on the archive.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from volvex.archive.access.open import open_archive
from volvex.archive.archive import Address, Archive, identity
from volvex.archive.envelope import Xored, xored
from volvex.archive.safe_names import shown
from volvex.archive.transfer.parallel import verify
from volvex.bench.build import Work, check_origins, work_on
from volvex.bench.changes import FileChange, changes
from volvex.bench.refusals import require_buildable
from volvex.bench.rename import learn
from volvex.bench.workbench import Workbench
from volvex.codec import COMPRESS
from volvex.errors import FormatError, RefusedError
from volvex.layout.columns import decoded_name
from volvex.layout.name_hash import UNNAMED
from volvex.layout.write.plan import Added, Edit, NewContent, Piece, Plan, PlannedSource
from volvex.source import Source, Spool
from volvex.source.digest import Fingerprint

SMALL = 1 << 24  # bytes that are written in place whatever their share of the file

# files in which entries were changed in place before; None: installed as a whole
Earlier = Mapping[str, Sequence[Address] | None]


@dataclass(frozen=True)
class Patch:
    """What is to be written into a file of the game: stretches of a source, and where each goes."""

    path: str
    base: Fingerprint  # of the file as it is now
    writes: tuple[tuple[int, Piece], ...]
    size: int  # of the file afterwards
    entries: tuple[Address, ...]  # that differ from the original then
    held: tuple[Source, ...] = ()

    @property
    def written(self) -> int:
        """How many bytes."""
        return sum(piece.size for _, piece in self.writes)


def plan_in_place(bench: Workbench, earlier: Earlier, spool: Spool) -> Iterator[Patch]:
    """The patches that make the game's files what `build` would make; RefusedError where that is not possible."""
    by_file: dict[str, list[FileChange]] = {}
    found = changes(bench)
    for change in found:
        by_file.setdefault(bench.file_of(bench.home(change.path)[0]), []).append(change)
    for name in earlier:
        by_file.setdefault(name, [])
    require_buildable(bench, {name: some for name, some in by_file.items() if some})
    for name, some in sorted(by_file.items()):
        if earlier.get(name, ()) is None:
            raise RefusedError(f"{name} was installed as a whole", "`volvex restore`, then building in place")
        patch = _plan_file(bench, name, some, tuple(earlier.get(name) or ()), spool)
        if patch is not None:
            yield patch
    learn(bench, found)


def _plan_file(
    bench: Workbench, name: str, changes: list[FileChange], earlier: Sequence[Address], spool: Spool
) -> Patch | None:
    original = bench.archive(name)
    if original is None or any(change.path == name for change in changes):
        raise RefusedError(
            f"{name} is no archive, so nothing can be changed within it", "`volvex build`, and `volvex install`"
        )
    if bench.renewed(name):
        check_origins(bench, changes)
    path = bench.game.folder / name
    now = open_archive(path, bench.library, name)
    if now is None:
        raise FormatError(name, "unknown format")
    with now:
        _check_kind(now, name)
        work = work_on(bench, name, original, changes, spool)
        edit = _translated(original, now, work, earlier, spool)
        if not (edit.replaced or edit.added or edit.removed):
            return None
        made = now.plan(edit, folder=bench.folder, pinned=True)
        writes = tuple(_writes(now, made))
        _check_worth(name, writes, made.size)
        _verify(now, made, edit)
        entries = {original.addresses[row] for row in (*work.edit.replaced, *work.edit.removed)} | {
            _address(added, now) for added in work.edit.added
        }
        final = tuple((at, _final(at, piece, now, spool)) for at, piece in writes)
        return Patch(name, Fingerprint.of(path), final, made.size, tuple(sorted(entries)), made.held)


def now_name(added: Added, archive: Archive) -> str:
    """The path of a new entry."""
    name = decoded_name(added.name, archive.entries.names.encoding).replace("\\", "/")
    return f"{UNNAMED}/{name}" if archive.entries.nameless else name


def _address(added: Added, archive: Archive) -> Address:
    return identity(now_name(added, archive)), 0


def _check_kind(archive: Archive, name: str) -> None:
    if archive.kept_beside or not (archive.envelope is None or isinstance(archive.envelope, Xored)):
        what = "lies in several files" if archive.kept_beside else "is compressed as a whole"
        raise RefusedError(f"{name} {what}, which cannot be changed in place", "`volvex build` without --in-place")


def _translated(original: Archive, now: Archive, work: Work, earlier: Sequence[Address], spool: Spool) -> Edit:
    """The edit of the original as one of the file as it is now; what was changed before and no longer is goes back."""
    edit, wanted = Edit(), {original.addresses[row]: content for row, content in work.edit.replaced.items()}
    gone = {original.addresses[row] for row in work.edit.removed}
    added = {_address(added, now): added for added in work.edit.added}
    _check_repeated(original, now, {*wanted, *gone, *added, *earlier}, gone | set(added), set(earlier))
    for address in sorted({*wanted, *gone, *added, *earlier}):
        row, before = now.row_at(address), original.row_at(address)
        if address in wanted or address in added:
            content = wanted[address] if address in wanted else added[address].content
            if row is not None:
                if not _holds(now, row, content):
                    edit.replaced[row] = content
            elif address in added:
                model = now.row_at(original.addresses[added[address].like])  # what it was like may be left out by now
                edit.added.append(Added(added[address].name, _any(now) if model is None else model, content))
            elif before is not None:
                edit.added.append(Added(_stored_name(original, before), _any(now), content))
        elif address in gone or before is None:
            if row is not None:
                edit.removed.add(row)
        elif row is not None:
            content = now.encode(spool, original.chunks(before), row)
            if not _holds(now, row, content):
                edit.replaced[row] = content
        else:
            content = now.encode(spool, original.chunks(before), _any(now))
            edit.added.append(Added(_stored_name(original, before), _any(now), content))
    return edit


def _stored_name(archive: Archive, row: int) -> bytes:
    """An entry's name as a new entry's is given."""
    return archive.entries.names.raw(row)


def _check_repeated(
    original: Archive, now: Archive, touched: set[Address], moving: set[Address], earlier: set[Address]
) -> None:
    """RefusedError where names repeat and it is not beyond doubt which entry of the file is which of the original."""
    for name in sorted({address[0] for address in touched}):
        if not (original.is_repeated(name) or now.is_repeated(name)):
            continue
        if any(address[0] == name for address in moving):
            raise _ambiguous(original, name)
        number = 0
        while (before := original.row_at((name, number))) is not None:
            row = now.row_at((name, number))
            if row is None or ((name, number) not in earlier and not _same_content(original, before, now, row)):
                raise _ambiguous(original, name)
            number += 1
        if now.row_at((name, number)) is not None:
            raise _ambiguous(original, name)


def _ambiguous(archive: Archive, name: str) -> RefusedError:
    return RefusedError(
        f"{archive.source.name} has several entries called {shown(name)}, and in place it would not be certain which "
        f"is which",
        "`volvex build` without --in-place",
    )


def _same_content(original: Archive, before: int, now: Archive, row: int) -> bool:
    """Whether two entries hold the same."""
    if original.entries.size[before] != now.entries.size[row]:
        return False
    pairs = zip(original.chunks(before), now.chunks(row), strict=False)
    return all(data == other for data, other in pairs)


def _holds(archive: Archive, row: int, content: NewContent) -> bool:
    """Whether an entry has that content already."""
    if int(archive.entries.size[row]) != content.size:
        return False
    chunks = content.source.chunks(content.offset, content.stored)
    wanted = (
        b"".join(COMPRESS.get(content.codec).decode_stream(chunks, content.size)) if content.size <= SMALL else None
    )
    return wanted is not None and wanted == archive.content(row)


def _any(archive: Archive) -> int:
    if not len(archive):
        raise RefusedError(f"{archive.source.name} has no entry left that another could be like", "`volvex restore`")
    return 0


def _writes(archive: Archive, made: Plan) -> Iterator[tuple[int, Piece]]:
    """The pieces that are not in their place already; behind a key as they are stored."""
    at = 0
    for piece in made.pieces:
        if not (piece.source is archive.source and piece.offset == at):
            yield at, piece
        at += piece.size


def _check_worth(name: str, writes: Sequence[tuple[int, Piece]], size: int) -> None:
    written = sum(piece.size for _, piece in writes)
    if written > SMALL and written > size // 2:
        raise RefusedError(
            f"{name}: {written:,} of its {size:,} bytes would move: its directory stands in front of the content and "
            f"grows",
            "`volvex build` without --in-place",
        )


def _final(at: int, piece: Piece, archive: Archive, spool: Spool) -> Piece:
    """A piece as it is stored, which does not need the file itself, since that is about to change."""
    key = archive.envelope.key if isinstance(archive.envelope, Xored) else b""
    if not key and piece.source is not archive.source:
        return piece

    def chunks() -> Iterator[bytes]:
        done = at
        for chunk in piece.chunks():
            yield xored(chunk, key, done) if key else chunk
            done += len(chunk)

    offset, size = spool.append(chunks())
    return Piece(source=spool, offset=offset, size=size)


def _verify(now: Archive, made: Plan, edit: Edit) -> None:
    """What will be written can be read back."""
    again = now.reopened(PlannedSource(made, now.source.name))
    wanted = {now.addresses[row] for row in edit.replaced} | {_address(added, now) for added in edit.added}
    rows = [row for row, address in enumerate(again.addresses) if address in wanted]
    faults = verify(again, np.array(rows, np.int64))
    if faults:
        raise faults[0]
