"""Install: a list of moves, journalled, all of them or none.

What a path of the game is to be is a file with the content, lines in a list that the game has, or None: no file.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import replace as changed
from pathlib import Path

from volvex.errors import NotFoundError, RefusedError
from volvex.mods.actions import Action, Done, leave_out, require_writable, size_of
from volvex.mods.home import home_of, locked
from volvex.mods.installed import is_ours, originals
from volvex.mods.journal import Installed, Move, Older, State, read_state, write_state
from volvex.mods.list_lines import ListLines, read_list, with_lines, without_lines
from volvex.mods.restore import damaged, moves_back, planned_back
from volvex.mods.store import OnProgress, Store, copy, stage
from volvex.mods.transaction import carry_out, content_id, inside, nothing, recover_in
from volvex.source import Disk
from volvex.source.digest import Fingerprint, stamp_of

Content = Path | ListLines | None


def plan_install(
    game: Path,
    files: Mapping[str, Content],
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
        actions.append(_action(name, target, source, state.installed.get(name), by))
    leaving = {name: installed for name, installed in state.installed.items() if name not in files}
    return [
        *actions,
        *(_why_out(planned_back(game, name, installed), installed, by) for name, installed in sorted(leaving.items())),
    ]


def _action(name: str, target: Path, source: Content, known: Installed | None, by: str) -> Action:
    """What becomes of a path."""
    why = "takes out an earlier install's" if known is not None and known.by != by else ""
    before = size_of(target)
    if isinstance(source, ListLines):
        return Action(name, "replace", before, before, why or "only our lines are put into this list")
    if source is None:
        return Action(name, "set aside", before, None, why or "the original is kept")
    return Action(name, "replace" if target.exists() else "add", before, size_of(source), why)


def _check_others(game: Path, state: State, files: Iterable[str], ours: Collection[str], replace: bool) -> None:
    """RefusedError when files of another install would go, and nobody said that they may."""
    others = [
        name
        for name, installed in sorted(state.installed.items())
        if installed.by not in ours and is_ours(game / name, installed)
    ]
    if others and not replace:
        wanted = set(files)
        text = ", ".join(f"{name} ({'replaced' if name in wanted else 'put back'})" for name in others[:5])
        more = f" and {len(others) - 5} more" if len(others) > 5 else ""
        raise RefusedError(
            f"another bench has installed files in {game}, which this install would take out: {text}{more}",
            "--overwrite to take them out, or `volvex restore` first",
        )


def _why_out(action: Action, known: Installed, by: str) -> Action:
    why = action.why or ("of an earlier install" if known.by != by else "no longer in the build")
    return Action(action.path, action.what, action.before, action.after, why)


def _check_bases(game: Path, files: Mapping[str, Content], bases: Mapping[str, Fingerprint | None]) -> None:
    now = originals(game)
    for name, source in files.items():
        if isinstance(source, ListLines):  # made from what the list is now
            if not (game / name).is_file():
                raise NotFoundError(f"the game has no list {name}", "the line [list] in its game.toml")
            continue
        original = now.get(name, game / name) if name in now else (game / name if (game / name).is_file() else None)
        found = Fingerprint.of(original) if original is not None else None
        if found != bases.get(name):
            raise RefusedError(
                f"{name}: the game's file has changed since this was built (a game update?)", "`volvex build`"
            )


def install(
    game: Path,
    files: Mapping[str, Content],
    bases: Mapping[str, Fingerprint | None],
    disk: Disk,
    on_progress: OnProgress = nothing,
    by: str = "",
    replace: bool = False,
    made_of: Mapping[str, tuple[str, ...]] | None = None,
    also: Collection[str] = (),
) -> Done:
    """Put files into the game (or take them out of it), the originals kept safe; files of the same bench's earlier
    install that are not among them go back to their originals. All of it happens, or nothing does.

    `bases` are the originals from which the files were made: RefusedError when the game has others now. `by` says which
    bench they come from: what another one installed goes only with `replace`, but for those in `also`. `made_of`: the
    mods with changes in each file.
    """
    for name, source in files.items():
        inside(game, name)
        if isinstance(source, Path) and not source.is_file():
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
                after[name] = changed(known, by=by, made_of=sources, source=_stamp(source))
                continue
            action, move, installed = _move_in(game, name, source, len(moves), known, store, on_progress, by)
            done.actions.append(action)
            moves.append(move)
            after[name] = changed(installed, made_of=sources)
            if known is not None and known.original not in (None, installed.original):
                older.append(Older(name, str(known.original)))
        gone = {name: installed for name, installed in state.installed.items() if name not in files}
        shared = {installed.original for installed in after.values() if installed.original} | {
            older.original for older in older
        }
        back, kept = moves_back(game, gone, store, done, on_progress, shared, len(moves), older)
        done.actions = [
            _why_out(action, gone[action.path], by) if action.path in gone else action for action in done.actions
        ]
        made = State(state.installed, older, "install", [*moves, *back], [], after | kept, state.generation)
        if made.moves:
            leave_out(done, carry_out(game, home, made, disk))
        elif made.after != state.installed:  # the same files, of other mods
            state.installed = made.after
            write_state(home, state, disk)
    return done


def _is_there(target: Path, source: Content, known: Installed, store: Store, on_progress: OnProgress) -> bool:
    """Whether a file is installed already, byte for byte, and its original is sound. Where neither it nor what it was
    copied from was touched since, nothing is read: the original is, when it is needed."""
    if not is_ours(target, known) or known.blocks:
        return False
    if isinstance(source, Path) and known.source and stamp_of(source) == known.source:
        return known.original is None or store.path(known.original).is_file()
    if isinstance(source, ListLines):
        same = known.lines == source.lines
    elif source is None or not known.now:
        same = source is None and not known.now
    else:
        same = content_id(source, known.now, on_progress) == known.now
    return same and (known.original is None or store.is_sound(known.original, on_progress))


def _move_in(
    game: Path,
    name: str,
    source: Content,
    number: int,
    known: Installed | None,
    store: Store,
    on_progress: OnProgress,
    by: str,
) -> tuple[Action, Move, Installed]:
    """Have a file's original in the store and its new content staged."""
    target, aside = game / name, f"replaced/{number}"
    action = _action(name, target, source, known, by)
    folder, stamp = _missing_folder(game, target), stamp_of(target) if target.is_file() else ""
    if known is not None and is_ours(target, known, on_progress):
        old: str | None = known.now or None
        original, folder = known.original, known.folder
        if original is not None and not store.is_sound(original, on_progress):
            raise damaged(store, original)
    elif known is not None and known.lines and isinstance(source, ListLines):
        old, original = content_id(target, None, on_progress), _without_ours(target, name, known, number, store)
    else:
        old = original = store.put(target, on_progress) if target.is_file() else None
    if source is None:
        return action, Move(name, old, None, None, aside, folder, stamp), Installed(original, "", folder, by=by)
    incoming = f"incoming/{number}"
    waiting = store.folder.parent / incoming
    lines = source.lines if isinstance(source, ListLines) else ()
    if isinstance(source, ListLines):
        data = with_lines(read_list(store.path(str(original))), lines, name)
        new = stage(data, waiting, target, store.disk)
    else:
        new = copy(source, waiting, None, store.disk, on_progress, target if target.is_file() else None)
    made = Installed(original, new, folder, stamp_of(waiting), by=by, lines=lines, source=_stamp(source))
    return action, Move(name, old, new, incoming, aside, folder, stamp), made


def _without_ours(target: Path, name: str, known: Installed, number: int, store: Store) -> str:
    """Keep a list that others have changed since as the original of what comes, without the lines that are ours."""
    waiting = store.folder.parent / f"incoming/list-{number}"
    stage(without_lines(read_list(target), known.lines, name), waiting, target, store.disk)
    return store.put(waiting, nothing)


def _stamp(source: Content) -> str:
    return stamp_of(source) if isinstance(source, Path) else ""


def _missing_folder(game: Path, target: Path) -> str:
    missing = [folder for folder in target.parents if folder.is_relative_to(game) and not folder.exists()]
    return missing[-1].relative_to(game).as_posix() if missing else ""
