"""Restore: every original back in its place, all or nothing."""

from __future__ import annotations

import os
from collections.abc import Collection, Mapping
from dataclasses import replace as changed
from pathlib import Path

from volvex.archive.access.paths import HIDDEN
from volvex.archive.safe_names import quoted
from volvex.errors import FormatError, NotFoundError, RefusedError
from volvex.mods.actions import Action, Done, leave_out, require_writable, size_of
from volvex.mods.home import ASIDE, free_aside, home_of, locked, orphans, set_aside, unknown_yet
from volvex.mods.installed import is_original, is_ours
from volvex.mods.journal import Installed, Move, Older, State, read_state, write_state
from volvex.mods.list_lines import read_list, without_lines
from volvex.mods.store import OnProgress, Store, copy, stage
from volvex.mods.transaction import carry_out, content_id, inside, nothing, reached, recover_in
from volvex.source import Disk
from volvex.source.digest import digest_bytes, digest_file, stamp_of

OLDER = "an older original, from before a game update or another change, is kept"
_SHARED = "others have changed this list since: only our lines go"


def plan_restore(game: Path, force: Collection[str] = ()) -> Done:
    """What restoring would do; nothing is touched."""
    state, done = read_state(home_of(game)), Done()
    for name, installed in sorted(state.installed.items()):
        action = planned_back(game, name, installed)
        if action.what == "skip" and name in force:
            action = Action(
                name, "put back", action.before, _kept_size(game, installed), "the changed file is kept aside"
            )
        (done.skipped if action.what == "skip" else done.actions).append(action)
    done.skipped += held(game, state, [])
    return done


def planned_back(game: Path, name: str, installed: Installed) -> Action:
    target = game / name
    if os.path.lexists(target) and not is_ours(target, installed) and not is_original(target, installed):
        if installed.lines and target.is_file():
            return Action(name, "put back", size_of(target), None, _SHARED)
        return skipped(game, name, installed)
    if installed.original is None:
        return Action(name, "remove", size_of(target), None)
    return Action(name, "put back", size_of(target), _kept_size(game, installed))


def _kept_size(game: Path, installed: Installed) -> int | None:
    return size_of(Store(home_of(game) / "originals", Disk()).path(installed.original)) if installed.original else None


def _where(original: str) -> str:
    return f"{HIDDEN}/originals/{original}"


def skipped(game: Path, name: str, installed: Installed) -> Action:
    size = size_of(game / name)
    if installed.original is None:
        return Action(
            name, "skip", size, size, "changed since it was installed, and not a file of the original game: kept"
        )
    return Action(
        name, "skip", size, size, "changed since it was installed (a game update?); its original is kept", _offer(name)
    )


def _offer(name: str) -> str:
    return (
        f"`volvex restore --overwrite {quoted(name)}`: the original replaces the present file, which is kept in "
        f"{HIDDEN}/{ASIDE}"
    )


def held(game: Path, state: State, force: Collection[str]) -> list[Action]:
    """What the store still holds beside what is installed: older originals, and those that no journal knows."""
    found = [
        Action(
            older.path,
            "skip",
            size,
            size,
            OLDER,
            f"{_offer(older.path)}; or `volvex restore --forget {quoted(older.path)}` to let it go",
        )
        for older, size in ((older, size_of(game / older.path)) for older in state.older if older.path not in force)
    ]
    return found + [
        Action(
            _where(orphan),
            "skip",
            None,
            None,
            "an original without a path in the journal; the game has no such file",
        )
        for orphan in orphans(game, state)
    ]


def damaged(store: Store, original: str) -> RefusedError:
    return RefusedError(
        f"{store.path(original)}: this original is missing or damaged, so nothing can be installed over it",
        "having the game's launcher repair its files, then installing again",
    )


def restore(game: Path, disk: Disk, on_progress: OnProgress = nothing, force: Collection[str] = ()) -> Done:
    """Put every original back, and remove what was added. Files that are not what was installed are skipped, and their
    originals are known and kept until they are back; those in `force` (paths of the game) are moved aside, and the
    original put in their place.
    """
    done = Done()
    if not home_of(game).is_dir():
        _check_force(force, set())
        return done
    with locked(game, disk) as home:
        recover_in(game, home, disk, back=True)
        state, store = _settled(game, home, disk, on_progress), Store(home / "originals", disk)
        _check_force(force, {*state.installed, *(older.path for older in state.older)})
        require_writable(game, list(state.installed))
        aside = _forced(game, home, state, force, store, disk, on_progress)
        shared, older = {older.original for older in state.older}, list(state.older)
        moves, kept = moves_back(game, state.installed, store, done, on_progress, shared, 0, older)
        if moves or kept != state.installed:
            made = State(state.installed, older, "restore", moves, [], kept, state.generation)
            leave_out(done, carry_out(game, home, made, disk))
        done.actions = [
            changed(action, before=aside[action.path].before, why=aside[action.path].why)
            if action.path in aside
            else action
            for action in done.actions
        ]
        done.skipped += held(game, changed(state, older=older), force)
    return done


def forget(game: Path, names: Collection[str], disk: Disk, on_progress: OnProgress = nothing) -> list[tuple[str, Path]]:
    """Let go of the older originals of some files: each is moved to where nothing touches it, and is no longer offered.

    NotFoundError when none is kept of one of them. Returns the files, and where their older originals are now.
    """
    found: list[tuple[str, Path]] = []
    with locked(game, disk) as home:
        recover_in(game, home, disk, back=True)
        state, store = _settled(game, home, disk, on_progress), Store(home / "originals", disk)
        for name in names:
            if not any(older.path == name for older in state.older):
                raise NotFoundError(f"no older original of {name} is kept", "`volvex restore --plan` to see what is")
        for older in [older for older in state.older if older.path in names]:
            target = free_aside(game, older.path)
            copy(store.path(older.original), target, older.original, disk, on_progress)
            found.append((older.path, target))
        state.older = [older for older in state.older if older.path not in names]
        write_state(home, state, disk)
        for digest in (
            {path.name for path in store.folder.iterdir()} - {*state.needed()} if store.folder.is_dir() else ()
        ):
            if any(digest_file(target) == digest for _, target in found):
                disk.remove(store.path(digest))
    return found


def told_once(game: Path, done: Done, disk: Disk) -> None:
    """Leave out what is kept of older originals where the user was told of it before: it is offered once, and listed by
    a plan."""
    keys = {action.path: f"{action.path} {action.why}" for action in done.skipped if action.why == OLDER}
    new = unknown_yet(game, keys.values(), disk) if keys else set()
    done.skipped = [action for action in done.skipped if action.why != OLDER or keys[action.path] in new]


def _check_force(force: Collection[str], known: Collection[str]) -> None:
    for name in force:
        if name not in known:
            raise NotFoundError(
                f"there is no original of {name} in the store", "`volvex restore --plan` to list the files"
            )


def _settled(game: Path, home: Path, disk: Disk, on_progress: OnProgress) -> State:
    """The journal without older originals that are back in the game by somebody else's doing."""
    state = read_state(home)
    left = [
        older for older in state.older if content_id(game / older.path, older.original, on_progress) != older.original
    ]
    if left != state.older:
        state.older = left
        write_state(home, state, disk)
    return state


def _forced(
    game: Path, home: Path, state: State, force: Collection[str], store: Store, disk: Disk, on_progress: OnProgress
) -> dict[str, Action]:
    """Move changed files aside, so that their originals can go where they were, and the journal says so: where each is
    now."""
    moved: dict[str, Action] = {}
    for name in sorted(force):
        inside(game, name)
        known, target = state.installed.get(name), game / name
        if known is not None and (not os.path.lexists(target) or is_ours(target, known) or is_original(target, known)):
            continue
        if known is None or known.original is None:  # the newest of the older ones
            older = [older for older in state.older if older.path == name]
            if not older:
                continue
            known = Installed(older[-1].original, older[-1].original)
            state.older.remove(older[-1])
        if not store.is_sound(str(known.original), on_progress):
            raise damaged(store, str(known.original))
        state.installed = {**state.installed, name: known}
        write_state(home, state, disk)
        if os.path.lexists(target):
            size = size_of(target)
            place = set_aside(game, name, disk).relative_to(game).as_posix()
            moved[name] = Action(name, "put back", size, None, f"the changed file is in {place}")
    return moved


def _lines_out(game: Path, name: str, installed: Installed, number: int, store: Store) -> Move | None:
    """The move that takes our lines out of a list that others have changed since; None when none of them is there, or
    it is no list any more."""
    target, incoming = game / name, f"incoming/list-{number}"
    try:
        data = read_list(target)
        left = without_lines(data, installed.lines, name)
    except (FormatError, IsADirectoryError):
        return None
    if left == data:
        return None
    new = stage(left, store.folder.parent / incoming, target, store.disk)
    return Move(name, digest_bytes(data), new, incoming, f"replaced/{number}", stamp=stamp_of(target))


def moves_back(
    game: Path,
    those: Mapping[str, Installed],
    store: Store,
    done: Done,
    on_progress: OnProgress,
    shared: set[str | None] | set[str],
    number: int,
    older: list[Older],
) -> tuple[list[Move], dict[str, Installed]]:
    """The moves that bring these files back, and what stays known of those that do not come back.

    An original that is needed once is moved out of the store. One that cannot come back since others have changed the
    list that it is of goes to `older`.
    """
    moves: list[Move] = []
    kept: dict[str, Installed] = {}
    counts = [installed.original for installed in those.values()]
    for name, installed in sorted(those.items()):
        target, aside = game / name, f"replaced/{number + len(moves)}"
        if reached(game, name) is None:  # a link has come to lie there, or on its way
            done.skipped.append(skipped(game, name, installed))
            kept[name] = installed
            continue
        there, stamp = os.path.lexists(target), stamp_of(target) if target.is_file() else ""
        if there and not is_ours(target, installed, on_progress):
            if is_original(target, installed, on_progress):
                done.actions.append(
                    Action(name, "put back", size_of(target), size_of(target), "its original was back already")
                )
                continue
            move = _lines_out(game, name, installed, number + len(moves), store) if installed.lines else None
            if move is not None:
                moves.append(move)
                older += [Older(name, str(installed.original))] if installed.original not in (None, move.new) else []
                left = size_of(store.folder.parent / str(move.incoming))
                done.actions.append(Action(name, "put back", size_of(target), left, _SHARED))
                continue
            done.skipped.append(skipped(game, name, installed))
            if installed.original is not None:
                kept[name] = installed
            continue
        if installed.original is None:
            if there:
                moves.append(Move(name, installed.now, None, None, aside, installed.folder, stamp))
                done.actions.append(Action(name, "remove", size_of(target), None))
            continue
        if not store.is_sound(installed.original, on_progress):
            done.skipped.append(_damaged(name, installed.original, size_of(target)))
            kept[name] = installed
            continue
        done.actions.append(Action(name, "put back", size_of(target), size_of(store.path(installed.original))))
        alone = installed.original not in shared and counts.count(installed.original) == 1
        incoming = _incoming(store, installed.original, alone, number + len(moves), on_progress)
        moves.append(Move(name, installed.now if there else None, installed.original, incoming, aside, stamp=stamp))
    return moves, kept


def _damaged(name: str, original: str, size: int | None) -> Action:
    """What is told of a file whose original cannot be put back."""
    problem = f"its original in {_where(original)} is missing or damaged: have the game's launcher repair this file"
    return Action(name, "skip", size, size, problem)


def _incoming(store: Store, original: str, alone: bool, number: int, on_progress: OnProgress) -> str:
    """Where an original is moved from, in the folder of the store: itself when it is needed once, a copy otherwise."""
    path = store.path(original)
    if alone:
        return path.relative_to(store.folder.parent).as_posix()
    incoming = f"incoming/back-{number}"
    copy(path, store.folder.parent / incoming, original, store.disk, on_progress)
    return incoming
