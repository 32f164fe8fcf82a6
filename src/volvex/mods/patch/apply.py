"""Changing files of a game in place, journalled like an install: the original is safe first, and what was begun is
finished or undone.

The new bytes are staged and synced before the journal says that they are to be written, and so are those that they
replace. Writing either of them twice does no harm, so that whoever comes after an interruption can do all of it again.
"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from volvex.errors import RefusedError
from volvex.mods.actions import Action, Done, leave_out, require_writable
from volvex.mods.home import home_of, locked
from volvex.mods.journal import BLOCKS, Installed, Move, Older, State, Writing, read_state
from volvex.mods.patch.plan import Earlier, Patch
from volvex.mods.store import OnProgress, Store
from volvex.mods.transaction import (
    carry_out,
    content_id,
    content_id_of,
    inside,
    laid_over,
    nothing,
    recover_in,
    touched_blocks,
)
from volvex.source import Disk, FileSource, Source, atomic
from volvex.source.digest import BLOCK, Fingerprint, block_digests, digest_bytes, digest_file, file_blocks, stamp_of

STEP = 1 << 20


def earlier(game: Path) -> Earlier:
    """Which files are installed, and the entries that were changed in place in each; None for those installed as a
    whole."""
    found = read_state(home_of(game)).installed
    return {
        name: installed.entries if installed.entries or installed.now.startswith(BLOCKS) else None
        for name, installed in found.items()
    }


def patch(game: Path, patches: Sequence[Patch], disk: Disk, on_progress: OnProgress = nothing, by: str = "") -> Done:
    """Write patches into the game's files. RefusedError when one is no longer what its patch was made for.

    A file that has several names on the disk (hard links, such as a copy that saves room) is replaced instead, so that
    the other names keep what they have.
    """
    for patch in patches:
        inside(game, patch.path)
    with locked(game, disk) as home:
        recover_in(game, home, disk)
        state, store = read_state(home), Store(home / "originals", disk)
        require_writable(game, [patch.path for patch in patches])
        after, older = dict(state.installed), list(state.older)
        writings, moves = list[Writing](), list[Move]()
        for index, one in enumerate(patches):
            target = inside(game, one.path)
            if Fingerprint.of(target) != one.base:
                raise RefusedError(f"{one.path} changed while it was being built", "`volvex build --in-place` again")
            known = state.installed.get(one.path)
            if known is not None and not _is_same(target, known, on_progress):
                older += [Older(one.path, known.original)] if known.original is not None else []
                known = None
            original = known.original if known is not None else store.put(target, on_progress)
            blocks = (
                known.blocks if known is not None and known.blocks else block_digests(file_blocks(target, on_progress))
            )
            writing = _staged(target, one, index, blocks, home, disk)
            made = _blocks_after(target, home, writing)
            after[one.path] = Installed(original, content_id_of(made), entries=one.entries, blocks=made, by=by)
            if target.stat().st_nlink > 1:
                moves.append(_replacing(target, one.path, writing, index, home, disk, on_progress))
                after[one.path] = Installed(
                    original,
                    str(moves[-1].new),
                    entries=one.entries,
                    by=by,
                    stamp=stamp_of(home / str(moves[-1].incoming)),
                )
            else:
                writings.append(writing)
        done = Done([Action(patch.path, "change in place", patch.base.size, patch.size) for patch in patches])
        planned = State(state.installed, older, "build --in-place", moves, writings, after, state.generation)
        leave_out(done, carry_out(game, home, planned, disk))
    return done


def _is_same(target: Path, known: Installed, on_progress: OnProgress) -> bool:
    """Whether a file is what was installed."""
    return stamp_of(target) == known.stamp or content_id(target, known.now, on_progress) == known.now


def _staged(target: Path, patch: Patch, index: int, blocks: str, home: Path, disk: Disk) -> Writing:
    """The new bytes of a patch in a file of their own, and the old ones in another, both synced."""
    before, spans, at = patch.base.size, list[list[int]](), 0
    incoming, undo = f"incoming/in-place-{index}", f"incoming/undo-{index}"
    with atomic(disk, home / incoming) as file:
        for place, piece in patch.writes:
            for chunk in piece.chunks():
                disk.write(file, chunk)
            spans.append([place, at, piece.size])
            at += piece.size
    if patch.size < before:  # what is cut off
        spans.append([patch.size, at, before - patch.size])
    with FileSource(target) as now, atomic(disk, home / undo) as file:
        for place, _, size in spans:
            for start in range(place, place + size, STEP):
                part = now.peek(start, min(STEP, place + size - start))
                disk.write(file, part + bytes(min(STEP, place + size - start) - len(part)))
    return Writing(patch.path, incoming, undo, spans, before, patch.size, blocks)


def _blocks_after(target: Path, home: Path, writing: Writing) -> str:
    """The digests of a file's blocks once it is written: only those that change are read."""
    found = [writing.blocks[at : at + 64] for at in range(0, len(writing.blocks), 64)]
    count = -(-writing.size // BLOCK)
    found = found[:count] + [""] * (count - len(found))
    with FileSource(target) as now, FileSource(home / writing.incoming) as incoming:
        for number in touched_blocks(writing.spans, writing.before, writing.size):
            found[number] = digest_bytes(_block(now, incoming, writing, number))
    return "".join(found)


def _block(now: Source, incoming: Source, writing: Writing, number: int) -> bytes:
    start = number * BLOCK
    return laid_over(now, incoming, writing.spans, start, min(BLOCK, writing.size - start))


def _replacing(
    target: Path, path: str, writing: Writing, index: int, home: Path, disk: Disk, on_progress: OnProgress
) -> Move:
    """A whole new file in place of one that has several names."""
    incoming = f"incoming/whole-{index}"
    with FileSource(target) as now, FileSource(home / writing.incoming) as over, atomic(disk, home / incoming) as file:
        for number in range(-(-writing.size // BLOCK)):
            disk.write(file, _block(now, over, writing, number))
        Path(file.name).chmod(target.stat().st_mode & 0o777)
    return Move(
        path,
        content_id(target, None, on_progress),
        digest_file(home / incoming, on_progress),
        incoming,
        f"replaced/{index}",
        stamp=stamp_of(target),
    )
