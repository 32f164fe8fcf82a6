"""Install and restore: both are a list of moves, journalled, all of them or none."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from volvex.archive.paths import HIDDEN
from volvex.errors import NotFoundError, RefusedError
from volvex.mods.journal import Installed, Move, State, Writing, read_state, write_state
from volvex.mods.store import Advance, Store, copy
from volvex.source import Disk, FileSource
from volvex.source.digest import Fingerprint, digest_bytes, digest_file
from volvex.source.disk import PART


@dataclass(frozen=True)
class Action:
    """What would happen, or happened, to a file of the game. Sizes in bytes."""

    path: str
    what: str  # replace, add, put back, remove, leave
    before: int | None
    after: int | None
    why: str = ""


@dataclass
class Done:
    """What came of an install or a restore."""

    actions: list[Action] = field(default_factory=list)
    changed: list[Action] = field(default_factory=list)  # left alone: not what we had installed


SAMPLED = "sample "
SAMPLE_SIZE, SAMPLE_COUNT = 1 << 16, 16


def _nothing(size: int) -> None: ...


def home_of(game: Path) -> Path:
    return game / HIDDEN


def installed(game: Path) -> Mapping[str, Installed]:
    """What is installed in a game's folder, by path."""
    return read_state(home_of(game)).installed


def originals(game: Path) -> dict[str, Path | None]:
    """Where the originals of installed files are now; None for files that the game did not have.

    A file that is no longer what was installed (the game was updated) is its own original again.
    """
    store = Store(home_of(game) / "objects", Disk())
    found: dict[str, Path | None] = {}
    for name, one in installed(game).items():
        if _is_ours(game / name, one):
            found[name] = store.path(one.original) if one.original else None
    return found


def _digest(path: Path, advance: Advance = _nothing) -> str | None:
    return digest_file(path, advance) if path.is_file() else None


def _is_ours(path: Path, one: Installed) -> bool:
    """Whether a file is still what was installed."""
    return path.is_file() and (_stamp(path) == one.stamp or token(path, one.now) == one.now)


def token(path: Path, like: str | None, advance: Advance = _nothing) -> str | None:
    """What tells a file's content from another: its digest, or where `like` is one a sample, so that no file is read whole
    only because a part of it was changed in place. None when there is no file."""
    if like is not None and like.startswith(SAMPLED) and path.is_file():
        found = sample(path)
        if found == like:
            return found
    return _digest(path, advance)


def sample(path: Path) -> str:
    """The token of a file that was changed in place."""
    told = Fingerprint.of(path)
    return f"{SAMPLED}{told.size} {told.sample}"


def _stamp(path: Path) -> str:
    told = path.stat()
    return f"{told.st_size} {told.st_mtime_ns}"


def _size(path: Path) -> int | None:
    return path.stat().st_size if path.is_file() else None


# plans


def plan_install(game: Path, files: Mapping[str, Path], bases: Mapping[str, Fingerprint | None]) -> list[Action]:
    """What installing these files would do, or the same RefusedError; nothing is touched."""
    actions = []
    _check_bases(game, files, bases)
    for name, source in sorted(files.items()):
        target = _inside(game, name)
        what = "replace" if target.exists() else "add"
        actions.append(Action(name, what, _size(target), _size(source)))
    leaving = [name for name in sorted(installed(game)) if name not in files]
    return actions + [action for action in plan_restore(game) if action.path in leaving]


def plan_restore(game: Path) -> list[Action]:
    """What restoring would do; nothing is touched."""
    store, actions = Store(home_of(game) / "objects", Disk()), []
    for name, one in sorted(installed(game).items()):
        target = game / name
        now = token(target, one.now)
        if now is None and one.original is None:
            continue
        if now not in (one.now, None):
            actions.append(_left(game, name, one))
        elif one.original is None:
            actions.append(Action(name, "remove", _size(target), None))
        else:
            actions.append(Action(name, "put back", _size(target), _size(store.path(one.original))))
    return actions


def _left(game: Path, name: str, one: Installed) -> Action:
    kept = (
        f"; the older original stays in {HIDDEN}/objects/{one.original[:2]}/{one.original[2:]}" if one.original else ""
    )
    size = _size(game / name)
    return Action(name, "leave", size, size, f"it is not what was installed, so the game may have been updated{kept}")


def _inside(game: Path, name: str) -> Path:
    """A file of the game by its path; RefusedError when the path, or a link in it, leads elsewhere."""
    target = game / name
    leads_out = Path(name).is_absolute() or ".." in Path(name).parts or target.is_symlink()
    if leads_out or not target.parent.resolve().is_relative_to(game.resolve()):
        raise RefusedError(
            f"{name} leads out of {game}", "looking at where it comes from: nobody should have written this"
        )
    return target


# transactions


@contextlib.contextmanager
def locked(game: Path, disk: Disk) -> Iterator[Path]:
    """The journal's folder, ours alone; gone again when nothing is left in it."""
    home = home_of(game)
    disk.make_folder(home, durable=True)
    from filelock import FileLock, Timeout  # slow to load, and only needed when something is written

    lock = FileLock(home / "lock", timeout=0)
    try:
        lock.acquire()
    except Timeout as error:
        raise RefusedError(f"another volvex is at work in {game}", "waiting until it is done") from error
    try:
        yield home
    finally:
        _tidy(home, disk)
        lock.release()
        if not (home / "state.json").exists():
            disk.remove(home / "lock")
            disk.remove_folder(home)


def _tidy(home: Path, disk: Disk) -> None:
    """Remove what is not needed: staged leftovers, originals that nothing refers to, at last the journal."""
    state = read_state(home)
    if state.moves or state.writings:
        return
    needed = {one.original for one in state.installed.values()} | set(state.kept)
    for path in sorted((home / "objects").glob("*/*")):
        if path.parent.name + path.name not in needed:
            disk.remove(path)
    for path in (*(home / "staged").glob("*"), *home.glob(f"*{PART}")):
        disk.remove(path)
    for folder in (*(home / "objects").glob("*"), home / "objects", home / "staged"):
        if folder.is_dir() and not any(folder.iterdir()):
            disk.remove_folder(folder)
    if not state.installed and not state.kept and (home / "state.json").exists():
        disk.remove(home / "state.json")


def install(
    game: Path,
    files: Mapping[str, Path],
    bases: Mapping[str, Fingerprint | None],
    disk: Disk,
    advance: Advance = _nothing,
) -> Done:
    """Put files into the game, the originals kept safe; files of an earlier install that are not among
    them go back to their originals. All of it happens, or nothing does.

    `bases` are the originals from which the files were made: RefusedError when the game has others now.
    """
    for name, source in files.items():
        _inside(game, name)
        if not source.is_file():
            raise NotFoundError(f"{source} is missing", "`volvex build`")
    with locked(game, disk) as home:
        recover_in(game, home, disk)
        state, store = read_state(home), Store(home / "objects", disk)
        _check_bases(game, files, bases)
        require_writable(game, [*files, *state.installed])
        done, moves, after = Done(), list[Move](), dict[str, Installed]()
        for name, source in sorted(files.items()):
            action, move, one = _move_in(
                game, name, source, f"staged/{len(moves)}", state.installed.get(name), store, advance
            )
            done.actions.append(action)
            moves.append(move)
            after[name] = one
        gone = {name: one for name, one in state.installed.items() if name not in files}
        still = {one.original for one in after.values() if one.original} | set(state.kept)
        moves += _moves_back(game, gone, store, done, advance, still)
        older = [
            one.original
            for name, one in state.installed.items()
            if name in after and after[name].original != one.original
        ]
        carry_out(game, home, State(state.installed, "install", moves, after, _kept(state, done, older)), disk)
    return done


def _check_bases(game: Path, files: Mapping[str, Path], bases: Mapping[str, Fingerprint | None]) -> None:
    now = originals(game)
    for name in files:
        original = now.get(name, game / name) if name in now else (game / name if (game / name).is_file() else None)
        found = Fingerprint.of(original) if original is not None else None
        if found != bases.get(name):
            raise RefusedError(f"{name}: the game's own file is another than the one from which this was built (an update?)",
                               "`volvex build`")  # fmt: skip


def _move_in(
    game: Path, name: str, source: Path, staged: str, known: Installed | None, store: Store, advance: Advance
) -> tuple[Action, Move, Installed]:
    """Have a file's original in the store and its new content staged."""
    target = game / name
    action = Action(name, "replace" if target.exists() else "add", _size(target), _size(source))
    old, folder = token(target, known.now if known else None, advance), _missing_folder(game, target)
    if known is not None and known.now == old:
        original, folder = known.original, known.folder
    else:
        original = store.put(target, advance) if old is not None else None
    new = copy(source, store.folder.parent / staged, None, store.disk, advance)
    return action, Move(name, old, new, staged), Installed(original, new, folder, _stamp(store.folder.parent / staged))


def _missing_folder(game: Path, target: Path) -> str:
    missing = [folder for folder in target.parents if folder.is_relative_to(game) and not folder.exists()]
    return missing[-1].relative_to(game).as_posix() if missing else ""


def _kept(state: State, done: Done, older: Iterable[str | None] = ()) -> list[str]:
    """Originals that stay in the store because somebody else changed the file since: they may be wanted still."""
    left = [state.installed[action.path].original for action in done.changed]
    return sorted({*state.kept, *(one for one in (*left, *older) if one)})


def restore(game: Path, disk: Disk, advance: Advance = _nothing) -> Done:
    """Put every original back, and remove what was added. Files that are not what was installed are left alone."""
    done = Done()
    if not home_of(game).is_dir():
        return done
    with locked(game, disk) as home:
        recover_in(game, home, disk)
        state, store = read_state(home), Store(home / "objects", disk)
        require_writable(game, list(state.installed))
        moves = _moves_back(game, state.installed, store, done, advance, set(state.kept))
        if state.installed:
            carry_out(game, home, State(state.installed, "restore", moves, {}, _kept(state, done)), disk)
    return done


def _moves_back(
    game: Path, those: Mapping[str, Installed], store: Store, done: Done, advance: Advance, keep: set[str]
) -> list[Move]:
    """The moves that bring these files back. An original that is needed once is moved out of the store."""
    moves: list[Move] = []
    used = set(keep)
    counts = [one.original for one in those.values()]
    for name, one in sorted(those.items()):
        target = _inside(game, name)
        now = token(target, one.now, advance)
        if now is None and one.original is None:
            continue  # what was added is gone already
        if now not in (one.now, None):
            done.changed.append(_left(game, name, one))
            continue
        if one.original is None:
            moves.append(Move(name, one.now, None, None, one.folder))
            done.actions.append(Action(name, "remove", _size(target), None))
            continue
        store.check(one.original, advance)
        done.actions.append(Action(name, "put back", _size(target), _size(store.path(one.original))))
        staged = store.path(one.original).relative_to(store.folder.parent).as_posix()
        if one.original in used or counts.count(one.original) > 1:
            staged = f"staged/back-{len(moves)}"
            copy(store.path(one.original), store.folder.parent / staged, one.original, store.disk, advance)
        moves.append(Move(name, now, one.original, staged))
    return moves


def require_writable(game: Path, names: list[str]) -> None:
    """Find out before anything is done whether the files can be replaced."""
    for name in names:
        target = game / name
        try:
            if target.exists():
                with target.open("r+b"):
                    pass
            elif target.parent.exists() and not os.access(target.parent, os.W_OK):
                raise PermissionError(target.parent)
        except PermissionError as error:
            raise RefusedError(
                f"{target} cannot be written", "closing the game, or the rights to its folder"
            ) from error


def carry_out(game: Path, home: Path, state: State, disk: Disk) -> None:
    """The transaction itself: from the first line on it will be finished, by us or by whoever comes next."""
    write_state(home, state, disk)
    _finish(game, home, state, disk)


def _finish(game: Path, home: Path, state: State, disk: Disk) -> None:
    """Do what is left of a transaction. Files that somebody else changed meanwhile are left alone."""
    after, kept = dict(state.after), set(state.kept)
    for writing in state.writings:
        target = _inside(game, writing.path)
        if rest_of(target, writing.spans, writing.until) != writing.rest:  # updated since: never overwritten
            left = after.pop(writing.path)
            kept |= {left.original} if left.original else set()
            continue
        _write(game, home, writing, disk)
        after[writing.path] = replace(after[writing.path], now=sample(target), stamp=_stamp(target))
    for move in state.moves:
        if not _move(game, home, move, disk):
            after.pop(move.path, None)
            known = state.installed.get(move.path) or state.after.get(move.path)
            kept |= {known.original} if known and known.original else set()
    write_state(home, State(after, kept=sorted(kept)), disk)


def rest_of(path: Path, spans: Iterable[Sequence[int]], until: int) -> str:
    """A sample of the bytes before `until` that are not among the spans to be written; empty when they are not all there."""
    if not path.is_file() or path.stat().st_size < until:
        return ""
    told, step = [], max(SAMPLE_SIZE, until // SAMPLE_COUNT)
    with FileSource(path) as source:
        for start in range(0, until, step):
            part = bytearray(source.peek(start, min(SAMPLE_SIZE, until - start)))
            for at, _, size in spans:
                first, last = max(at - start, 0), min(at + size - start, len(part))
                part[first:last] = bytes(max(0, last - first))
            told.append(bytes(part))
    return digest_bytes(b"".join(told))


def _write(game: Path, home: Path, writing: Writing, disk: Disk) -> None:
    """Write stretches into a file of the game; done twice it is the same as once."""
    with FileSource(_inside(home, writing.staged)) as staged, _inside(game, writing.path).open("r+b") as file:
        for at, start, size in writing.spans:
            file.seek(at)
            for chunk in staged.chunks(start, size):
                disk.write(file, chunk)
        disk.truncate(file, writing.size)
        disk.sync(file)


def _move(game: Path, home: Path, move: Move, disk: Disk) -> bool:
    """Carry one move out, or find it carried out; False when the file is neither old nor new."""
    target = _inside(game, move.path)
    now = token(target, move.old)
    if now not in (move.old, move.new):
        return False
    staged = _inside(home, move.staged) if move.staged else None
    if now == move.new and staged is not None and not staged.exists():
        return True  # done before the interruption
    if staged is None:
        disk.remove(target)
        _remove_folders(game, target, move.folder, disk)
        return True
    disk.make_folder(target.parent, durable=True)
    disk.replace(staged, target)
    disk.sync_folder(target.parent)
    return True


def _remove_folders(game: Path, target: Path, topmost: str, disk: Disk) -> None:
    """Remove the folders that were made for a file, as far as they are empty."""
    if not topmost:
        disk.sync_folder(target.parent)
        return
    for folder in target.parents:
        disk.remove_folder(folder)
        if folder == game / topmost:
            break


def recover(game: Path, disk: Disk) -> str:
    """Finish a transaction that was interrupted, and clear away what one left that never began.

    What it was: install or restore, or nothing.
    """
    if not home_of(game).is_dir() or (not _under_way(read_state(home_of(game))) and not _leftovers(home_of(game))):
        return ""
    with locked(game, disk) as home:
        return recover_in(game, home, disk)


def _leftovers(home: Path) -> bool:
    return not (home / "state.json").exists() or any((home / "staged").glob("*")) or any(home.rglob(f"*{PART}"))


def _under_way(state: State) -> bool:
    return bool(state.moves or state.writings)


def recover_in(game: Path, home: Path, disk: Disk) -> str:
    state = read_state(home)
    if _under_way(state):
        _finish(game, home, state, disk)
    return state.verb
