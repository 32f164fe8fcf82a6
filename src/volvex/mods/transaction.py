"""Transactions: a list of moves and writings that the journal names before the first of them is made.

Each can be carried out and undone by renames alone, at any point and as often as it takes, because nothing is destroyed
until all of it is done: what was there lies in `replaced`, what is new in `incoming` or in its place. So whoever comes
after an interruption, or a disk that refuses, goes forward or back, whichever works. A file that somebody else changed
meanwhile is left alone in both directions, and the journal goes on knowing its original.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from volvex.errors import RefusedError
from volvex.mods.home import home_of, locked
from volvex.mods.journal import BLOCKS, Move, State, Writing, read_state, write_state
from volvex.mods.store import OnProgress
from volvex.source import Disk, FileSource, Source
from volvex.source.digest import BLOCK, block_digests, digest_bytes, digest_file, file_blocks, stamp_of


def nothing(size: int) -> None: ...


def inside(game: Path, name: str) -> Path:
    """A file of the game by its path; RefusedError when the path, or a link in it, leads elsewhere."""
    target = game / name
    leads_out = Path(name).is_absolute() or ".." in Path(name).parts or target.is_symlink()
    if leads_out or not target.parent.resolve().is_relative_to(game.resolve()):
        raise RefusedError(
            f"{name} leads out of {game}, or is a link", "a copy of the file in its place, or leaving it out"
        )
    return target


def content_id(path: Path, like: str | None, on_progress: OnProgress = nothing) -> str | None:
    """A file's digest: of all of it, or, where `like` is such a one, of the digests of its blocks.
    None when there is no file."""
    if path.is_symlink() or not path.is_file():
        return None
    if like is not None and like.startswith(BLOCKS):
        return content_id_of(block_digests(file_blocks(path, on_progress)))
    return digest_file(path, on_progress)


def content_id_of(blocks: str) -> str:
    """The token of a file, from the digests of its blocks."""
    return BLOCKS + digest_bytes(blocks.encode())


def carry_out(game: Path, home: Path, state: State, disk: Disk) -> set[str]:
    """Do all of it; when the disk refuses, undo all of it and raise what it said. The paths of files that somebody else
    changed meanwhile, and that were left alone."""
    begun = False
    try:
        write_state(home, state, disk)
        begun = True
        return _forward(game, home, state, disk, fresh=True)
    except OSError:
        found = read_state(home)
        if found.under_way:
            _back(game, home, found, disk)
        elif begun:
            return set()  # all is done, and the journal says so: only its second copy could not be written
        raise


def recover(game: Path, disk: Disk, back: bool = False) -> str:
    """Finish a transaction that was interrupted, or undo it: when asked to go `back`, and when it cannot be finished.

    What it was, and what became of it; empty when there was none.
    """
    home = home_of(game)
    if not home.is_dir() or not read_state(home).under_way:
        return ""
    with locked(game, disk) as home:
        return recover_in(game, home, disk, back)


def recover_in(game: Path, home: Path, disk: Disk, back: bool = False) -> str:
    """Finish or undo an interrupted transaction; the caller holds the lock."""
    state = read_state(home)
    if not state.under_way:
        return ""
    if not back:
        try:
            _forward(game, home, state, disk)
            return f"{state.verb} was finished"
        except OSError:
            state = read_state(home)
    if state.under_way:
        _back(game, home, state, disk)
    return f"{state.verb} was undone"


def _forward(game: Path, home: Path, state: State, disk: Disk, fresh: bool = False) -> set[str]:
    """Do what is left of a transaction; the paths of files that were left alone."""
    after, left = dict(state.after), set[str]()
    # files that were updated since are left alone, and their records stay
    ours = [writing for writing in state.writings if fresh or _is_ours(game, home, writing)]
    _allocate(game, ours, disk)
    for writing in ours:
        target = inside(game, writing.path)
        _write(target, home / writing.incoming, writing, disk, writing.size)
        after[writing.path] = replace(after[writing.path], stamp=stamp_of(target))
    for move in state.moves:
        if _move(game, home, move, disk):
            continue
        left.add(move.path)
        if move.path in after and after[move.path].original is None:  # nothing that could be lost
            del after[move.path]
        elif move.path in state.installed and move.path not in after:  # its original has not come back
            after[move.path] = state.installed[move.path]
    write_state(home, State(after, state.older, generation=state.generation), disk)
    return left | {writing.path for writing in state.writings if writing not in ours}


def _back(game: Path, home: Path, state: State, disk: Disk) -> None:
    """Undo what was done of a transaction."""
    before = dict(state.installed)
    for writing in reversed(state.writings):
        if _is_ours(game, home, writing):
            target = inside(game, writing.path)
            _write(target, home / writing.undo, writing, disk, writing.before)
            if writing.path in before:
                before[writing.path] = replace(before[writing.path], stamp=stamp_of(target))
        elif writing.path in state.after:
            before[writing.path] = state.after[writing.path]
    for move in reversed(state.moves):
        if not _move_back(game, home, move, disk) and move.path in state.after and move.path not in before:
            before[move.path] = state.after[move.path]
    known = {(path, one.original) for path, one in before.items()}
    older = [older for older in state.older if (older.path, older.original) not in known]
    write_state(home, State(before, older, generation=state.generation), disk)


# files that are replaced as a whole


def _is_plain(path: Path) -> bool:
    return os.path.lexists(path) and stat.S_ISREG(path.lstat().st_mode)


def _is(path: Path, wanted: str | None, stamp: str = "") -> bool:
    """Whether there is a file with that content; by its stamp, if that is known, or by all of its bytes."""
    if wanted is None or not _is_plain(path):
        return wanted is None and not os.path.lexists(path)
    return (bool(stamp) and stamp_of(path) == stamp) or content_id(path, wanted) == wanted


def reached(game: Path, name: str) -> Path | None:
    """A file of the game, unless a link has come to lie on its way: that is somebody else's doing, like any other
    change."""
    try:
        return inside(game, name)
    except RefusedError:
        return None


def _move(game: Path, home: Path, move: Move, disk: Disk) -> bool:
    """Carry one move out, or find it carried out; False when the file is neither old nor new."""
    target, aside = reached(game, move.path), home / move.aside
    if target is None:
        return False
    incoming = home / move.incoming if move.incoming else None
    if not _is_plain(incoming) if incoming is not None else _is_plain(aside) and not os.path.lexists(target):
        return _is(target, move.new)  # done before the interruption
    if not _is_plain(aside):
        if not _is(target, move.old, move.stamp):
            return False
        if move.old is not None:
            disk.make_folder(aside.parent, durable=True)
            _put_aside(target, aside, incoming is not None, disk)
    elif os.path.lexists(target) and not (_is_plain(target) and target.samefile(aside)):
        return False
    if incoming is None:
        disk.remove(target)
        _remove_folders(game, target, move.folder, disk)
        return True
    disk.make_folder(target.parent, durable=True)
    disk.replace(incoming, target)
    disk.sync_folder(target.parent)
    return True


def _put_aside(target: Path, aside: Path, stays: bool, disk: Disk) -> None:
    """Keep what is there under a second name, so that the game is never without the file; or move it, where disks have
    no such."""
    if stays:
        try:
            disk.link(target, aside)
            return
        except OSError:
            pass
    disk.replace(target, aside)
    disk.sync_folder(aside.parent)


def _move_back(game: Path, home: Path, move: Move, disk: Disk) -> bool:
    """Undo one move, or find it undone; False when the file is neither new nor old."""
    target, aside = reached(game, move.path), home / move.aside
    if target is None:
        return False
    incoming = home / move.incoming if move.incoming else None
    if incoming is not None and not _is_plain(incoming) and os.path.lexists(target):
        if not _is(target, move.new):
            return False
        disk.make_folder(incoming.parent, durable=True)
        disk.replace(target, incoming)
        disk.sync_folder(incoming.parent)
    if move.old is None:
        _remove_folders(game, target, move.folder, disk)
        return not os.path.lexists(target)
    if not _is_plain(aside):
        return _is(target, move.old, move.stamp)
    if _is_plain(target) and target.samefile(aside):
        disk.remove(aside)
        return True
    if os.path.lexists(target):
        return False
    disk.make_folder(target.parent, durable=True)
    disk.replace(aside, target)
    disk.sync_folder(target.parent)
    return True


def _remove_folders(game: Path, target: Path, topmost: str, disk: Disk) -> None:
    """Remove the folders that were made for a file, as far as they are empty."""
    if not topmost:
        if target.parent.is_dir():
            disk.sync_folder(target.parent)
        return
    for folder in target.parents:
        if folder.is_dir():
            disk.remove_folder(folder)
        if folder == game / topmost:
            break


# files that are changed in place


def _allocate(game: Path, writings: list[Writing], disk: Disk) -> None:
    """Have the room for all that grows before the first byte is written over."""
    for writing in writings:
        if writing.size > writing.before:
            with inside(game, writing.path).open("r+b") as file:
                disk.allocate(file, writing.size)


def _write(target: Path, source: Path, writing: Writing, disk: Disk, size: int) -> None:
    """Write stretches into a file of the game; done twice it is the same as once."""
    with FileSource(source) as found, target.open("r+b") as file:
        for at, start, length in writing.spans:
            file.seek(at)
            for chunk in found.chunks(start, max(0, min(length, found.size - start, size - at))):
                disk.overwrite(file, chunk)
        file.flush()
        disk.truncate(file, size)
        disk.sync(file)


def _is_ours(game: Path, home: Path, writing: Writing) -> bool:
    """Whether a file is what a writing was made for, but for the stretches that it writes: all of it is read. And
    whether the bytes for both directions are there.

    With the old bytes laid over those stretches, each block must have the digest that it had before.
    """
    target = reached(game, writing.path)
    if target is None or not all(map(_is_plain, (target, home / writing.undo, home / writing.incoming))):
        return False
    if not min(writing.before, writing.size) <= target.stat().st_size <= max(writing.before, writing.size):
        return False
    with FileSource(target) as now, FileSource(home / writing.undo) as undo:
        found = "".join(
            digest_bytes(laid_over(now, undo, writing.spans, start, min(BLOCK, writing.before - start)))
            for start in range(0, writing.before, BLOCK)
        )
    return found == writing.blocks


def laid_over(source: Source, over: Source, spans: list[list[int]], start: int, size: int) -> bytes:
    """Some bytes of a source (zeros behind its end) with those of another laid over them, at the stretches of a
    writing."""
    block = bytearray(source.peek(start, size))
    block += bytes(size - len(block))
    for at, place, length in spans:
        first, last = max(at, start), min(at + length, start + size, at + over.size - place)
        if first < last:
            block[first - start : last - start] = over.read(place + first - at, last - first)
    return bytes(block)


def touched_blocks(spans: list[list[int]], before: int, size: int) -> Iterator[int]:
    """The numbers of the blocks of a file that a writing changes."""
    cut = {min(before, size) // BLOCK} if before != size else set()
    found = {
        number for at, _, length in spans if length for number in range(at // BLOCK, (at + length - 1) // BLOCK + 1)
    }
    grown = set(range(before // BLOCK, -(-size // BLOCK))) if size > before else set()
    yield from (number for number in sorted(found | cut | grown) if number * BLOCK < size)
