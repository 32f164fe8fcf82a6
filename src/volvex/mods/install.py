"""Install and restore: both are a list of moves, journalled, all of them or none."""

from __future__ import annotations

import os
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field
from dataclasses import replace as changed
from pathlib import Path

from volvex.archive.access.paths import HIDDEN
from volvex.archive.safe_names import quoted
from volvex.errors import NotFoundError, RefusedError
from volvex.mods.home import ASIDE, home_of, locked, orphans, set_aside
from volvex.mods.journal import Installed, Move, Older, State, read_state, write_state
from volvex.mods.store import OnProgress, Store, copy
from volvex.mods.transaction import carry_out, content_id, inside, nothing, reached, recover_in
from volvex.source import Disk
from volvex.source.digest import Fingerprint, stamp_of


@dataclass(frozen=True)
class Action:
    """What would happen, or happened, to a file of the game. Sizes in bytes."""

    path: str
    what: str  # replace, add, put back, remove, skip
    before: int | None
    after: int | None
    why: str = ""
    hint: str = ""  # what to do about it


@dataclass
class Done:
    """The result of an install or a restore, file by file."""

    actions: list[Action] = field(default_factory=list)
    skipped: list[Action] = field(default_factory=list)  # what was not done, and why


def installed(game: Path) -> Mapping[str, Installed]:
    """What is installed in a game's folder, by path."""
    return read_state(home_of(game)).installed


@dataclass(frozen=True)
class FileState:
    """A file that was installed: `installed` as it is, `changed since` (a game update?), or its `original` again."""

    path: str
    state: str
    made_of: tuple[str, ...]


def states(game: Path) -> list[FileState]:
    """What has become of each file that was installed, sorted by path."""
    return [FileState(name, _state(game / name, one), one.made_of) for name, one in sorted(installed(game).items())]


def _state(path: Path, one: Installed) -> str:
    return "installed" if _is_ours(path, one) else "original" if _is_original(path, one) else "changed since"


def originals(game: Path) -> dict[str, Path | None]:
    """Where the originals of installed files are now; None for files that the game did not have.

    A file that is no longer what was installed (the game was updated) is its own original again.
    """
    store = Store(home_of(game) / "originals", Disk())
    found: dict[str, Path | None] = {}
    for name, one in installed(game).items():
        if _is_ours(game / name, one):
            found[name] = store.path(one.original) if one.original else None
    return found


def _is_ours(path: Path, installed: Installed, on_progress: OnProgress = nothing) -> bool:
    """Whether a file is still what was installed: untouched since, or with the same bytes, all of which are read."""
    if path.is_symlink() or not path.is_file():
        return False
    return stamp_of(path) == installed.stamp or content_id(path, installed.now, on_progress) == installed.now


def _size(path: Path) -> int | None:
    return path.stat().st_size if path.is_file() else None


# plans


def plan_install(
    game: Path,
    files: Mapping[str, Path],
    bases: Mapping[str, Fingerprint | None],
    by: str = "",
    replace: bool = False,
    also: Collection[str] = (),
) -> list[Action]:
    """What installing these files would do, or the same RefusedError; nothing is touched."""
    state = read_state(home_of(game))
    _check_others(game, state, files, (by, *also), replace)
    _check_bases(game, files, bases)
    require_writable(game, [*files, *state.installed])
    actions = []
    for name, source in sorted(files.items()):
        target = inside(game, name)
        what = "replace" if target.exists() else "add"
        actions.append(Action(name, what, _size(target), _size(source), _why_in(state.installed.get(name), by)))
    leaving = {name: one for name, one in state.installed.items() if name not in files}
    return [*actions, *(_why_out(_planned_back(game, name, one), one, by) for name, one in sorted(leaving.items()))]


def plan_restore(game: Path, force: Collection[str] = ()) -> Done:
    """What restoring would do; nothing is touched."""
    state, done = read_state(home_of(game)), Done()
    for name, one in sorted(state.installed.items()):
        action = _planned_back(game, name, one)
        if action.what == "skip" and name in force:
            action = Action(name, "put back", action.before, _kept_size(game, one), "the changed file is kept aside")
        (done.skipped if action.what == "skip" else done.actions).append(action)
    done.skipped += _held(game, state, [])
    return done


def _planned_back(game: Path, name: str, installed: Installed) -> Action:
    target = game / name
    if os.path.lexists(target) and not _is_ours(target, installed) and not _is_original(target, installed):
        return _skipped(game, name, installed)
    if installed.original is None:
        return Action(name, "remove", _size(target), None)
    return Action(name, "put back", _size(target), _kept_size(game, installed))


def _kept_size(game: Path, installed: Installed) -> int | None:
    return _size(Store(home_of(game) / "originals", Disk()).path(installed.original)) if installed.original else None


def _is_original(path: Path, installed: Installed, on_progress: OnProgress = nothing) -> bool:
    """Whether a file is its own original already, byte for byte."""
    return installed.original is not None and content_id(path, installed.original, on_progress) == installed.original


def _where(original: str) -> str:
    return f"{HIDDEN}/originals/{original}"


def _skipped(game: Path, name: str, installed: Installed) -> Action:
    size = _size(game / name)
    if installed.original is None:
        return Action(
            name, "skip", size, size, "changed since it was installed, and not a file of the original game: kept"
        )
    return Action(
        name, "skip", size, size, "changed since it was installed (a game update?); its original is kept", _offer(name)
    )


def _offer(name: str) -> str:
    return f"`volvex restore --overwrite {quoted(name)}`: the original goes back, the file that is there is kept in {HIDDEN}/{ASIDE}"


def _held(game: Path, state: State, force: Collection[str]) -> list[Action]:
    """What the store still holds beside what is installed: older originals, and those that no journal knows."""
    found = [
        Action(one.path, "skip", size, size, "an older original, from before a game update, is kept", _offer(one.path))
        for one, size in ((one, _size(game / one.path)) for one in state.older if one.path not in force)
    ]  # fmt: skip
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


# what an install may not do


def _check_others(game: Path, state: State, files: Iterable[str], ours: Collection[str], replace: bool) -> None:
    """RefusedError when files of another install would go, and nobody said that they may."""
    others = [
        name for name, one in sorted(state.installed.items()) if one.by not in ours and _is_ours(game / name, one)
    ]
    if others and not replace:
        wanted = set(files)
        some = ", ".join(f"{name} ({'replaced' if name in wanted else 'put back'})" for name in others[:5])
        more = f" and {len(others) - 5} more" if len(others) > 5 else ""
        raise RefusedError(f"another bench has installed files in {game}, which this install would take out: {some}{more}",
                           "--replace to take them out, or `volvex restore` first")  # fmt: skip


def _why_in(known: Installed | None, by: str) -> str:
    return "takes out an earlier install's" if known is not None and known.by != by else ""


def _why_out(action: Action, known: Installed, by: str) -> Action:
    why = action.why or ("of an earlier install" if known.by != by else "no longer in the build")
    return Action(action.path, action.what, action.before, action.after, why)


def _check_bases(game: Path, files: Mapping[str, Path], bases: Mapping[str, Fingerprint | None]) -> None:
    now = originals(game)
    for name in files:
        original = now.get(name, game / name) if name in now else (game / name if (game / name).is_file() else None)
        found = Fingerprint.of(original) if original is not None else None
        if found != bases.get(name):
            raise RefusedError(f"{name}: the game's file has changed since this was built (a game update?)",
                               "`volvex build`")  # fmt: skip


def require_writable(game: Path, names: Iterable[str]) -> None:
    """Find out before anything is done whether the files can be replaced: they, and the folders in which names change."""
    for name in names:
        target = game / name
        try:
            if target.exists():
                with target.open("r+b"):
                    pass
            folder = next(parent for parent in target.parents if parent.exists())
            if not os.access(folder, os.W_OK | os.X_OK):
                raise PermissionError(folder)
        except PermissionError as error:
            raise RefusedError(
                f"{target} cannot be written", "closing the game, or the rights to its folder"
            ) from error


# install


def install(
    game: Path,
    files: Mapping[str, Path],
    bases: Mapping[str, Fingerprint | None],
    disk: Disk,
    on_progress: OnProgress = nothing,
    by: str = "",
    replace: bool = False,
    made_of: Mapping[str, tuple[str, ...]] | None = None,
    also: Collection[str] = (),
) -> Done:
    """Put files into the game, the originals kept safe; files of the same bench's earlier install that are not among them go
    back to their originals. All of it happens, or nothing does.

    `bases` are the originals from which the files were made: RefusedError when the game has others now. `by` says which bench
    they come from: what another one installed goes only with `replace`, but for those in `also`. `made_of`: the mods with
    changes in each file.
    """
    for name, source in files.items():
        inside(game, name)
        if not source.is_file():
            raise NotFoundError(f"{source} is missing", "`volvex build`")
    with locked(game, disk) as home:
        recover_in(game, home, disk)
        state, store = read_state(home), Store(home / "originals", disk)
        _check_others(game, state, files, (by, *also), replace)
        _check_bases(game, files, bases)
        require_writable(game, [*files, *state.installed])
        done, moves, after = Done(), list[Move](), dict[str, Installed]()
        older = list(state.older)
        for name, source in sorted(files.items()):
            known = state.installed.get(name)
            sources = (made_of or {}).get(name, ())
            if known is not None and _is_there(game / name, source, known, store, on_progress):
                after[name] = changed(known, by=by, made_of=sources)
                continue
            action, move, one = _move_in(game, name, source, len(moves), known, store, on_progress, by)
            done.actions.append(action)
            moves.append(move)
            after[name] = changed(one, made_of=sources)
            if known is not None and known.original not in (None, one.original):
                older.append(Older(name, str(known.original)))
        gone = {name: one for name, one in state.installed.items() if name not in files}
        shared = {one.original for one in after.values() if one.original} | {one.original for one in older}
        back, kept = _moves_back(game, gone, store, done, on_progress, shared, len(moves))
        done.actions = [_why_out(one, gone[one.path], by) if one.path in gone else one for one in done.actions]
        made = State(state.installed, older, "install", [*moves, *back], [], after | kept, state.generation)
        if made.moves:
            leave_out(done, carry_out(game, home, made, disk))
        elif made.after != state.installed:  # the same files, of other mods
            state.installed = made.after
            write_state(home, state, disk)
    return done


def _is_there(target: Path, source: Path, known: Installed, store: Store, on_progress: OnProgress) -> bool:
    """Whether a file is installed already, byte for byte, and its original is sound."""
    if not _is_ours(target, known) or content_id(source, known.now, on_progress) != known.now or known.blocks:
        return False
    return known.original is None or store.is_sound(known.original, on_progress)


def _move_in(
    game: Path,
    name: str,
    source: Path,
    number: int,
    known: Installed | None,
    store: Store,
    on_progress: OnProgress,
    by: str,
) -> tuple[Action, Move, Installed]:
    """Have a file's original in the store and its new content staged."""
    target, incoming, aside = game / name, f"incoming/{number}", f"replaced/{number}"
    action = Action(name, "replace" if target.exists() else "add", _size(target), _size(source), _why_in(known, by))
    folder, stamp = _missing_folder(game, target), stamp_of(target) if target.is_file() else ""
    if known is not None and _is_ours(target, known, on_progress):
        old: str | None = known.now
        original, folder = known.original, known.folder
        if original is not None and not store.is_sound(original, on_progress):
            raise _damaged(store, original)
    else:
        old = original = store.put(target, on_progress) if target.is_file() else None
    waiting = store.folder.parent / incoming
    new = copy(source, waiting, None, store.disk, on_progress, target if target.is_file() else None)
    return (
        action,
        Move(name, old, new, incoming, aside, folder, stamp),
        Installed(original, new, folder, stamp_of(waiting), by=by),
    )


def leave_out(done: Done, left: set[str]) -> None:
    """What was to be done, and was not since a file changed under our hands."""
    done.skipped += [Action(action.path, "skip", action.before, action.before, "changed by another program meanwhile")
                     for action in done.actions if action.path in left]  # fmt: skip
    done.actions = [one for one in done.actions if one.path not in left]


def _damaged(store: Store, original: str) -> RefusedError:
    return RefusedError(
        f"{store.path(original)}: this original is missing or damaged, so nothing can be installed over it",
        "having the game's launcher repair its files, then installing again",
    )


def _missing_folder(game: Path, target: Path) -> str:
    missing = [folder for folder in target.parents if folder.is_relative_to(game) and not folder.exists()]
    return missing[-1].relative_to(game).as_posix() if missing else ""


# restore


def restore(game: Path, disk: Disk, on_progress: OnProgress = nothing, force: Collection[str] = ()) -> Done:
    """Put every original back, and remove what was added. Files that are not what was installed are skipped, and their originals
    are known and kept until they are back; those in `force` (paths of the game) are moved aside, and the original put in
    their place.
    """
    done = Done()
    if not home_of(game).is_dir():
        _check_force(force, set())
        return done
    with locked(game, disk) as home:
        recover_in(game, home, disk, back=True)
        state, store = _settled(game, home, disk, on_progress), Store(home / "originals", disk)
        _check_force(force, {*state.installed, *(one.path for one in state.older)})
        require_writable(game, list(state.installed))
        aside = _forced(game, home, state, force, store, disk, on_progress)
        shared = {one.original for one in state.older}
        moves, kept = _moves_back(game, state.installed, store, done, on_progress, shared, 0)
        if moves or kept != state.installed:
            made = State(state.installed, state.older, "restore", moves, [], kept, state.generation)
            leave_out(done, carry_out(game, home, made, disk))
        done.actions = [
            changed(action, before=aside[action.path].before, why=aside[action.path].why)
            if action.path in aside
            else action
            for action in done.actions
        ]
        done.skipped += _held(game, state, force)
    return done


def _check_force(force: Collection[str], known: Collection[str]) -> None:
    for name in force:
        if name not in known:
            raise NotFoundError(
                f"there is no original of {name} in the store", "`volvex restore --plan` to see what there is"
            )


def _settled(game: Path, home: Path, disk: Disk, on_progress: OnProgress) -> State:
    """The journal without older originals that are back in the game by somebody else's doing."""
    state = read_state(home)
    left = [one for one in state.older if content_id(game / one.path, one.original, on_progress) != one.original]
    if left != state.older:
        state.older = left
        write_state(home, state, disk)
    return state


def _forced(
    game: Path, home: Path, state: State, force: Collection[str], store: Store, disk: Disk, on_progress: OnProgress
) -> dict[str, Action]:
    """Move changed files aside, so that their originals can go where they were, and the journal says so: where each is now."""
    moved: dict[str, Action] = {}
    for name in sorted(force):
        inside(game, name)
        known, target = state.installed.get(name), game / name
        if known is not None and (
            not os.path.lexists(target) or _is_ours(target, known) or _is_original(target, known)
        ):
            continue
        if known is None or known.original is None:  # the newest of the older ones
            older = [one for one in state.older if one.path == name]
            if not older:
                continue
            known = Installed(older[-1].original, older[-1].original)
            state.older.remove(older[-1])
        if not store.is_sound(str(known.original), on_progress):
            raise _damaged(store, str(known.original))
        state.installed = {**state.installed, name: known}
        write_state(home, state, disk)
        if os.path.lexists(target):
            size = _size(target)
            place = set_aside(game, name, disk).relative_to(game).as_posix()
            moved[name] = Action(name, "put back", size, None, f"the changed file is in {place}")
    return moved


def _moves_back(
    game: Path,
    those: Mapping[str, Installed],
    store: Store,
    done: Done,
    on_progress: OnProgress,
    shared: set[str | None] | set[str],
    number: int,
) -> tuple[list[Move], dict[str, Installed]]:
    """The moves that bring these files back, and what stays known of those that do not come back.

    An original that is needed once is moved out of the store.
    """
    moves: list[Move] = []
    kept: dict[str, Installed] = {}
    counts = [one.original for one in those.values()]
    for name, one in sorted(those.items()):
        target, aside = game / name, f"replaced/{number + len(moves)}"
        if reached(game, name) is None:  # a link has come to lie there, or on its way
            done.skipped.append(_skipped(game, name, one))
            kept[name] = one
            continue
        there, stamp = os.path.lexists(target), stamp_of(target) if target.is_file() else ""
        if there and not _is_ours(target, one, on_progress):
            if _is_original(target, one, on_progress):
                done.actions.append(
                    Action(name, "put back", _size(target), _size(target), "its original was back already")
                )
                continue
            done.skipped.append(_skipped(game, name, one))
            if one.original is not None:
                kept[name] = one
            continue
        if one.original is None:
            if there:
                moves.append(Move(name, one.now, None, None, aside, one.folder, stamp))
                done.actions.append(Action(name, "remove", _size(target), None))
            continue
        if not store.is_sound(one.original, on_progress):
            size = _size(target)
            done.skipped.append(Action(name, "skip", size, size, f"its original in {_where(one.original)} is missing or damaged: "
                                       "have the game's launcher repair this file"))  # fmt: skip
            kept[name] = one
            continue
        done.actions.append(Action(name, "put back", _size(target), _size(store.path(one.original))))
        incoming = store.path(one.original).relative_to(store.folder.parent).as_posix()
        if one.original in shared or counts.count(one.original) > 1:
            incoming = f"incoming/back-{number + len(moves)}"
            copy(store.path(one.original), store.folder.parent / incoming, one.original, store.disk, on_progress)
        moves.append(Move(name, one.now if there else None, one.original, incoming, aside, stamp=stamp))
    return moves, kept
