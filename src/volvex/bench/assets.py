"""Assets of a bench whose kind goes out as one open file and back (`asset/kind.py`): opened, taken over, checked."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path

from volvex.asset.kind import ExchangedKind, kind_named, kind_of
from volvex.bench.changes import FileChange
from volvex.bench.content import original_kind, original_of
from volvex.bench.open_folder import FOLDER, SyncResult, asset_of, is_own, settle_edited, sync_one, write_file
from volvex.bench.opened import EDITED, ORIGINAL, OpenedAsset
from volvex.bench.takeover import taking_over
from volvex.bench.workbench import Workbench
from volvex.data.check import ERROR, Problem
from volvex.errors import NotFoundError, RefusedError, VolvexError
from volvex.source import BytesSource
from volvex.source.digest import digest_bytes, digest_file

LARGEST = 1 << 28  # bytes of a changed file that is checked


def kind_at(bench: Workbench, path: str) -> ExchangedKind | None:
    """The exchanged kind of something on the bench; None for anything else."""
    return kind_of(_current(bench, path), bench.library)


def open_asset_as(
    bench: Workbench, kind: ExchangedKind, path: str, extension: str, again: bool = False
) -> tuple[str, tuple[str, ...]]:
    """Write an asset of the bench as a file that other programs open; where, below the bench, and what it does not carry."""
    file = f"{FOLDER}/{path}.{extension}"
    settle_edited(bench, [file], again)
    made, target = kind.export(_current(bench, path), bench.library, extension), bench.files / path
    base = ORIGINAL if is_own(bench, path) else EDITED
    write_file(bench, bench.folder / file, made.data)
    if base == EDITED:
        write_file(bench, _base_file(bench, kind, path), target.read_bytes())
    digest = digest_file(target)
    bench.opened[file] = OpenedAsset(path, extension, digest_bytes(made.data), digest, asset=kind.NAME, base=base)
    bench.save()
    return file, made.notes


def sync_assets(bench: Workbench, path: str, files: Sequence[str]) -> list[SyncResult]:
    """Take over the edited file of an asset. RefusedError when it does not fit in, or two were edited."""
    name = bench.opened[files[0]].kind
    kind = kind_named(name)
    if kind is None:
        raise NotFoundError(f"there is no kind of asset called {name}", "installing the package that it comes from")
    return sync_one(
        bench,
        path,
        files,
        name,
        lambda file: _take_over(bench, kind, path, file),
        lambda file: open_asset_as(bench, kind, path, bench.opened[file].extension, again=True),
    )


def asset_problems(bench: Workbench, change: FileChange) -> Iterator[Problem]:
    """The problems of one changed file, when the game's own is such an asset."""
    if change.what != "changed" or max(change.before or 0, change.after) > LARGEST:
        return
    if original_kind(bench, change.path) not in (change.kind, "binary"):
        return  # reported as another kind
    before = BytesSource(original_of(bench)(change.path), change.path)
    after = BytesSource((bench.files / change.source).read_bytes(), change.path)
    try:
        kind = kind_of(before, bench.library)
        own = kind.describe(before, bench.library) if kind is not None else None
    except VolvexError:
        return  # the game's own cannot be read: nothing can be compared
    if kind is None or own is None:
        return
    try:
        for fault in kind.faults(before, after, bench.library):
            what = f"{kind.NAME} {fault.what}"
            yield Problem(fault.level, what, change.path, "", "", "", fault.message, fault.hint)
    except VolvexError as error:
        hint = error.hint or "saving it again"
        yield Problem(ERROR, f"{kind.NAME} file", change.path, "", "", "", error.message, hint)


def _current(bench: Workbench, path: str) -> BytesSource:
    return BytesSource((bench.files / path).read_bytes(), path)


def _base_file(bench: Workbench, kind: ExchangedKind, path: str) -> Path:
    return bench.folder / "base" / f"{digest_bytes(path.encode())}.{kind.NAME}"


def _take_over(bench: Workbench, kind: ExchangedKind, path: str, file: str) -> SyncResult:
    known = asset_of(bench, file)
    own = known.base == ORIGINAL
    base = original_of(bench)(path) if own else _base_file(bench, kind, path).read_bytes()
    data = (bench.folder / file).read_bytes()
    try:
        merged = kind.take_over(BytesSource(base, path), bench.library, BytesSource(data, file), known.extension)
    except VolvexError as error:
        raise RefusedError(f"{file}: {error.message}".replace(f"{file}: {file}: ", f"{file}: "), error.hint) from error
    with taking_over(bench, [file], [path]):
        write_file(bench, bench.files / path, merged.data)
        bench.opened[file] = replace(known, digest=digest_bytes(data), of=digest_bytes(merged.data))
        bench.save()
    return SyncResult(path, file, merged.what, merged.notes)
