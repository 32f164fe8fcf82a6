"""Assets of a bench, of every kind (`asset/kind.py`): out to the folder `open` and back, a user's file in a game's
place, both states.

An asset may be several files: levels of a picture beside it, the skeleton of a model elsewhere. All of them together
are the base of what is opened: the game's own, or what the bench had when it was opened. So what nobody touched keeps
the game's bytes, however often a file is saved.
"""

from __future__ import annotations

import os
import posixpath
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from volvex.archive.detect import filetypes
from volvex.archive.safe_names import quoted
from volvex.asset.kind import ASSET_KINDS, AssetKind, Edited, Options, Result, kind_named, kinds_for, path_beside
from volvex.bench.changes import FileChange
from volvex.bench.content import Read, current_of, one_meant, original_kind
from volvex.bench.open_folder import (
    FOLDER,
    State,
    SyncResult,
    asset_of,
    digest_of,
    is_own,
    settle_edited,
    state_of,
    write_file,
)
from volvex.bench.opened import EDITED, ORIGINAL, SPRITE, OpenedAsset
from volvex.bench.states import BenchState, changed_state, current_state, original_state
from volvex.bench.takeover import taking_over
from volvex.bench.workbench import Workbench
from volvex.data.check import ERROR, WARNING, Problem
from volvex.errors import FormatError, NotFoundError, RefusedError, UsageError, VolvexError
from volvex.layout import Library
from volvex.source import BytesSource, FileSource, Source
from volvex.source.digest import digest_bytes, digest_file

OpenFile = tuple[str, tuple[str, ...]]  # a file of the folder `open`, and what it does not carry


# out


def kinds_going_to(extension: str) -> list[AssetKind[Any]]:
    """The kinds whose files go out to an open format and come back from it."""
    return [kind for kind in ASSET_KINDS.all() if kind.takes_back and extension in kind.extensions()]


def open_asset(bench: Workbench, path: str, extension: str, options: Options, again: bool = False) -> list[OpenFile]:
    """Write an asset of the bench as files that other programs open: where, below the bench, and what each does not
    carry.

    UsageError for what is of no kind that goes out to this format.
    """
    kinds = kinds_going_to(extension)
    if not kinds:
        every = sorted({one for kind in ASSET_KINDS.all() if kind.takes_back for one in kind.extensions()})
        raise UsageError(f"no picture, sound or model is opened as .{extension}", f"one of {', '.join(every)}")
    for kind in kinds:
        asset = current_state(bench).opened(kind, path)
        if asset is not None:
            parts = kind.parts(asset, path, options)
            return [made for part in parts for made in _open_part(bench, kind, path, asset, extension, part, again)]
    names = " and no ".join(kind.NAME for kind in kinds)
    others = [kind.NAME for kind in ASSET_KINDS.all() if kind not in kinds and kind.takes_back]
    hint = f"a format for data: csv, json, po; or for a {' or a '.join(others)}"
    raise UsageError(f"{path} is no {names}", hint)


def _open_part(
    bench: Workbench, kind: AssetKind[Any], path: str, asset: Any, extension: str, part: str, again: bool
) -> list[OpenFile]:
    """Write one open file of an asset, and what goes out with it."""
    extension = kind.one_file(extension)
    file = f"{FOLDER}/{path}{'.' + part.replace(' ', '') if part else ''}.{extension}"
    settle_edited(bench, [file], again)
    links, beside, notes = _open_companions(bench, kind, asset, file)
    out = kind.export(asset, extension, part, posixpath.basename(file).rpartition(".")[0], links)
    for name, data in out.files.items():
        target = (bench.folder / file).with_name(name) if name else bench.folder / file
        if name and target.is_file() and target.read_bytes() != data:
            notes.append(f"{posixpath.dirname(file)}/{name} stays as it is: remove it, and it is written again")
            continue
        write_file(bench, target, data)
    paths = (path, *(path_beside(path, name) for name in kind.beside(asset)), *kind.others(asset))
    base = ORIGINAL if all(is_own(bench, path) for path in paths) else EDITED
    if base == EDITED:
        for one in paths:
            write_file(bench, _base_file(bench, kind.NAME, one), current_of(bench)(one))
    bench.opened[file] = OpenedAsset(
        path,
        extension,
        digest_bytes(out.files[""]),
        digest_of(bench, paths),
        paths[1:],
        asset=kind.NAME,
        base=base,
        part=part,
    )
    bench.save()
    return [(file, (*out.notes, *notes)), *beside]


def _open_companions(
    bench: Workbench, kind: AssetKind[Any], asset: Any, file: str
) -> tuple[dict[str, str], list[OpenFile], list[str]]:
    """Open the textures of a model as pictures; by their names the paths from the model's file, what was opened, and
    notes."""
    links, made, notes = dict[str, str](), list[OpenFile](), list[str]()
    folder = posixpath.dirname(file)
    for name, path in kind.companions(asset).items():
        target = f"{FOLDER}/{path}.png"
        try:
            if target not in bench.opened or not (bench.folder / target).is_file():
                if not (bench.files / path).is_file():
                    bench.take(list(bench.select(path)))
                made += open_asset(bench, path, "png", {})
        except VolvexError as error:
            notes.append(f"the texture {name} is left out: {error.message}")
            continue
        links[name] = os.path.relpath(target, folder).replace(os.sep, "/")
    return links, [(target, ()) for target, _ in made], notes


def _base_file(bench: Workbench, kind: str, path: str) -> Path:
    return bench.folder / "base" / f"{digest_bytes(path.encode())}.{kind}"


# back


def sync_assets(bench: Workbench, path: str, files: Sequence[str]) -> list[SyncResult]:
    """Take over what was edited of the open files of an asset, and write the others again. RefusedError when one does
    not fit in, or two were edited that do not go together."""
    name = bench.opened[files[0]].kind
    kind = kind_named(name)
    if kind is None:
        raise NotFoundError(f"there is no kind of asset called {name}", "installing the package that it comes from")
    state = state_of(bench, path, files, "" if kind.TOGETHER else kind.NAME)
    if not state.edited and not state.moved:
        return []
    done = [_take_over(bench, kind, path, state)] if state.edited else []
    if not (kind.TOGETHER and state.edited):  # of those that go together, all agree now
        others = sorted(set(state.opened) - set(state.edited))
        done += [SyncResult(path, file, _written_again(bench, kind, path, file)) for file in others]
    bench.save()
    return done


def _written_again(bench: Workbench, kind: AssetKind[Any], path: str, file: str) -> str:
    """Write an open file of an asset that was changed otherwise; what was done."""
    known = asset_of(bench, file)
    try:
        asset = current_state(bench).opened(kind, path)
        if asset is None:
            raise RefusedError(f"{path} is no {kind.NAME} any more")
        _open_part(bench, kind, path, asset, known.extension, known.part, again=True)
    except VolvexError as error:
        return f"left as it was: {error.message}"
    return "rewritten"


def _take_over(bench: Workbench, kind: AssetKind[Any], path: str, state: State) -> SyncResult:
    """Put the edited files of an asset into its base, as one step."""
    together = state.opened if kind.TOGETHER else state.edited
    known = {file: asset_of(bench, file) for file in together}
    first = next(iter(known.values()))
    base_state = original_state(bench) if first.base == ORIGINAL else BenchState(bench, _kept(bench, kind.NAME))
    file = " and ".join(state.edited)
    try:
        base = base_state.opened(kind, path)
        if base is None:
            raise RefusedError(f"{path} is no {kind.NAME}", f"`volvex take {quoted(path)}`")
        edits = [_edit(bench, name, one, kind.LARGEST) for name, one in known.items()]
        result = kind.take_over(base, edits, bench.library)
    except FormatError:
        raise
    except VolvexError as error:
        said = error.message if error.message.startswith(tuple(known)) else f"{file}: {error.message}"
        raise RefusedError(said, error.hint) from error
    beside = (*(path_beside(path, name) for name in kind.beside(base)), *kind.others(base))
    paths = tuple(dict.fromkeys((path, *first.beside, *beside)))
    with taking_over(bench, list(known), (*paths, *result.others)):
        written = put_result(bench, path, result)
        for name, one in known.items():
            of = digest_of(bench, paths)
            bench.opened[name] = replace(one, digest=digest_file(bench.folder / name), of=of, beside=paths[1:])
        bench.save()
    own = {path, *(path_beside(path, name) for name in result.files if name)}
    others = [one for one in written if one not in own]
    said = ", ".join([*([result.what] if result.what else []), *_into(others)]) or "nothing taken over"
    return SyncResult(path, file, said, result.notes)


def _into(paths: Sequence[str]) -> list[str]:
    return [f"changes applied to {', '.join(paths)}"] if paths else []


def _edit(bench: Workbench, file: str, known: OpenedAsset, largest: int) -> Edited:
    source = bench.folder / file
    if source.stat().st_size > largest:
        raise RefusedError(f"{file} has more than {largest:,} bytes", "a smaller one")
    return Edited(file, _in_memory(source, file), known.extension, known.part)


def _in_memory(file: Path, name: str) -> BytesSource:
    """A user's file, with what lies beside it."""
    source = BytesSource(file.read_bytes(), name)
    source.beside = lambda other: _file_beside(file.parent / other, other)
    return source


def _file_beside(file: Path, name: str) -> Source | None:
    return FileSource(file, name) if file.is_file() else None


def _kept(bench: Workbench, kind: str) -> Read:
    """What reads the base of an asset that was edited before it was opened; of other files what the bench has."""

    def read(path: str) -> bytes:
        kept = _base_file(bench, kind, path)
        return kept.read_bytes() if kept.is_file() else current_of(bench)(path)

    return read


def put_result(bench: Workbench, path: str, result: Result, keep: bool = False) -> list[str]:
    """Write what an edit makes of an asset, its own file last; where. Files that stay as they are are not written.

    With `keep`, what a user made of them is kept aside.
    """
    files = {path_beside(path, name): data for name, data in result.files.items() if name} | dict(result.others)
    written, current = [], current_of(bench)
    for other, data in [
        *sorted(files.items(), reverse=True),
        *([(path, result.files[""])] if "" in result.files else []),
    ]:
        there = (bench.files / other).is_file() or bench.original_size(other) is not None
        if there and current(other) == data and not (keep and other == path):
            continue
        if not there:  # a new animation
            written.append(bench.put_content(other, data))
            continue
        own, target = (other, bench.files / other) if bench.original_size(other) is None else bench.open_for_edit(other)
        if keep:
            bench.keep_edited(own, digest_bytes(data))
        write_file(bench, target, data)
        written.append(own)
    return written


# in a game's place


@dataclass(frozen=True)
class Replacement:
    """A user's file in the form of the asset that it is to replace."""

    kind: AssetKind[Any]
    path: str
    result: Result


def replacement(
    bench: Workbench, path: str, file: Path | None, options: Options, on_progress: Callable[[int], None]
) -> Replacement | None:
    """A user's file in the form of the asset of the game that it is to replace, or without one something empty.

    None when they are of no one kind, or nothing has to be converted. RefusedError when it cannot be made to fit.
    """
    own_path = one_meant(bench, path)
    if own_path is None or (file is not None and not file.is_file()):
        return None  # reported where it is put there
    own_type, size = original_kind(bench, own_path), bench.original_size(own_path) or 0
    for kind in kinds_for(own_type):
        if kind.too_large(max(size, file.stat().st_size if file is not None else 0)):
            continue
        user = None
        if file is not None:
            user = user_file(kind, file, bench.library, lambda file_type: kind.converts(own_type, file_type, options))  # noqa: B023
            if user is None:
                continue
        own = original_state(bench).opened(kind, own_path, thorough=True)
        if own is not None and (result := kind.replace(own, user, options, on_progress)) is not None:
            return Replacement(kind, own_path, result)
    return None


def user_file(
    kind: AssetKind[Any], file: Path, library: Library, wanted: Callable[[str], bool] = lambda file_type: True
) -> Any:
    """A user's file as one kind, if its type is `wanted`; None when it is none. NotFoundError when there is no file."""
    if not file.is_file():
        raise NotFoundError(f"there is no file {file}")
    with FileSource(file, file.as_posix()) as source:
        source.beside = lambda other: _file_beside(file.parent / other, other)
        file_type = filetypes.kind_by_content(source.peek(0, filetypes.HEAD))
        if not wanted(file_type):
            return None
        if kind.STREAMED or not kind.is_open(file_type):  # nothing is held of what is of no kind
            return kind.user_file(source, library, file_type)
    return kind.user_file(_in_memory(file, file.as_posix()), library, file_type)


def put_replacement(bench: Workbench, replaced: Replacement, file: Path | None) -> tuple[str, list[str]]:
    """Put a converted file in the place of the game's own: where it went in the bench, and all that was written."""
    if replaced.result.as_is and file is not None:
        place = bench.put(replaced.path, file)
        return place, [place]
    place, _ = bench.open_for_edit(replaced.path)
    return place, put_result(bench, place, replaced.result, keep=True)


# both states


def pair_of(bench: Workbench, change: FileChange) -> tuple[AssetKind[Any], Any, Any] | None:
    """The kind of a changed asset, and what it was and is; None when one of them is none, or damaged."""
    for kind in kinds_for(change.kind) if change.what == "changed" else ():
        if kind.too_large(max(change.before or 0, change.after)):
            continue
        try:
            before = original_state(bench).opened(kind, change.path)
            after = changed_state(bench, change).opened(kind, change.path) if before is not None else None
        except VolvexError:
            return None
        if before is not None and after is not None:
            return kind, before, after
    return None


def asset_problems(bench: Workbench, change: FileChange) -> Iterator[Problem]:
    """The problems of one changed or added file, when it is an asset or the game's own is."""
    new = change.before is None
    if change.what == "removed":
        return
    own_type = change.kind if new else original_kind(bench, change.path)
    if own_type not in (change.kind, "binary") and not (own_type in filetypes.TEXT and change.kind in filetypes.TEXT):
        return  # reported as another kind
    for kind in kinds_for(own_type):
        size = max(change.before or 0, change.after)
        if (new and not kind.CHECKS_NEW) or (size > kind.CHECKED and not kind.STREAMED):
            continue
        try:
            before = None if new else original_state(bench).opened(kind, change.path)
        except VolvexError:
            return  # the game's own cannot be read: nothing can be compared
        if before is None and not new:
            continue
        found = list(_faults(bench, kind, before, change))
        yield from (
            Problem(level, f"{kind.NAME} {what}", change.path, "", "", "", *said) for level, what, *said in found
        )
        if found or not new:
            return


def _faults(
    bench: Workbench, kind: AssetKind[Any], before: Any, change: FileChange
) -> Iterator[tuple[str, str, str, str]]:
    try:
        after = changed_state(bench, change).opened(kind, change.path)
    except VolvexError as error:
        yield ERROR, "file", error.message, error.hint or "saving it again"
        return
    if before is not None and (after is None or kind.form(after) != kind.form(before)):
        known = "of no known kind" if change.kind == "binary" else change.kind
        has = known if after is None else kind.form(after)
        said = f"this is {has}, the game's own is a {kind.NAME} of {kind.form(before)}"
        yield ERROR, "kind", said, f"`volvex swap` with a {kind.NAME}, which converts it"
        return
    if after is None:
        return
    stem = change.path.rpartition(".")[0]
    packed = any(one.kind == SPRITE and one.path.rpartition(".")[0] == stem for one in bench.opened.values())
    try:
        for fault in kind.faults(before, after):
            if not (packed and fault.level == WARNING and fault.what == "size"):  # its list has it too
                yield fault
    except VolvexError as error:
        yield ERROR, "file", error.message, error.hint or "saving it again"


def files_beside(bench: Workbench, path: str) -> list[str]:
    """The paths of the files beside an asset of the game's that it is made of; none for anything else."""
    try:
        if original_kind(bench, path) != "binary":
            return []  # no format of the game's own
        for kind in kinds_for("binary"):
            if not kind.can("beside") or kind.too_large(bench.original_size(path) or 0):
                continue
            asset = original_state(bench).opened(kind, path)
            if asset is not None:
                return [path_beside(path, name) for name in kind.beside(asset)]
    except VolvexError:
        return []
    return []
