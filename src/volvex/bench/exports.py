"""Data of a bench as files that ordinary programs open, in its folder `open`: what is edited there comes back by
itself.

Each command that works on changes looks first whether such a file was edited, and takes its values over: all of them,
or none when one does not fit. When the data was edited otherwise, the file is rewritten.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace

from volvex.archive.safe_names import quoted
from volvex.bench.open_folder import FOLDER, SyncResult, counted, settle_edited, state_of, sync_one, write_file
from volvex.bench.opened import DATA, MODEL, PICTURE, SPRITE, OpenedData
from volvex.bench.takeover import taking_over
from volvex.bench.workbench import Workbench
from volvex.data import Document, require_data, verify
from volvex.data.exchange import Wanted, exchange_for, exported, imported
from volvex.errors import RefusedError, VolvexError
from volvex.source.digest import digest_bytes, digest_file


def open_as(bench: Workbench, path: str, extension: str, wanted: Wanted, again: bool = False) -> str:
    """Write something of the bench as a file that other programs open; where, below the bench."""
    document = _document(bench, path)
    exchange_for(extension, document)  # known before anything is looked at
    suffix = f".{wanted.language}" if wanted.language else f".{wanted.sheet}" if wanted.sheet else ""
    file = f"{FOLDER}/{path}{suffix}.{extension}"
    settle_edited(bench, [file], again)
    data = exported(extension, document, wanted)
    write_file(bench, bench.folder / file, data)
    bench.opened[file] = OpenedData(
        path,
        extension,
        digest_bytes(data),
        digest_file(bench.files / path),
        sheet=wanted.sheet or "",
        language=wanted.language or "",
    )
    bench.save()
    return file


def _document(bench: Workbench, path: str) -> Document:
    return require_data((bench.files / path).read_bytes(), bench.library, path)


def sync_exports(bench: Workbench) -> list[SyncResult]:
    """Take over what was edited in the folder `open`, and write again what was edited elsewhere.

    RefusedError, and nothing is taken over, when the same data was edited in two files.
    """
    by_kind: dict[str, dict[str, list[str]]] = {}
    for file, opened in bench.opened.items():
        by_kind.setdefault(opened.kind, {}).setdefault(opened.path, []).append(file)
    for path, files in by_kind.get(DATA, {}).items():
        with _named(files[0]):
            state_of(bench, path, files, DATA)
    results: list[SyncResult] = []
    for kind in (*SYNCS, *sorted(by_kind.keys() - SYNCS.keys())):
        for path, files in by_kind.get(kind, {}).items():
            with _named(files[0]):
                results += SYNCS.get(kind, _sync_assets)(bench, path, files)
    return results


@contextlib.contextmanager
def _named(file: str) -> Iterator[None]:
    """Errors of this work name the file of the folder `open` that it is about."""
    try:
        yield
    except VolvexError as error:
        if file in error.message:
            raise
        raise RefusedError(f"{file}: {error.message}", error.hint or f"`volvex undo {quoted(file)}`") from error


def _sync_sprites(bench: Workbench, path: str, files: Sequence[str]) -> list[SyncResult]:
    from volvex.bench.sprites import sync_sprites  # only here: a bench without such files needs no decoders

    return sync_sprites(bench, path, files)


def _sync_assets(bench: Workbench, path: str, files: Sequence[str]) -> list[SyncResult]:
    from volvex.bench.assets import sync_assets

    return sync_assets(bench, path, files)


def _sync_data(bench: Workbench, path: str, files: Sequence[str]) -> list[SyncResult]:
    def take_over(file: str) -> SyncResult:
        known, wanted = _known(bench, file)
        data, document = (bench.folder / file).read_bytes(), _document(bench, path)
        incoming = imported(known.extension, data, document, wanted, file)
        written = verify.edited(document, incoming.changes) if incoming.changes else b""
        with taking_over(bench, [file], [path]):
            if incoming.changes:
                write_file(bench, bench.files / path, written)
            _agree(bench, file, data)
            bench.save()
        said = f"{counted(len(incoming.changes), 'change')} taken over"
        return SyncResult(path, file, said, tuple(incoming.notes))

    def write_again(file: str) -> None:
        known, wanted = _known(bench, file)
        data = exported(known.extension, _document(bench, path), wanted)
        write_file(bench, bench.folder / file, data)
        _agree(bench, file, data)

    return sync_one(bench, path, files, DATA, take_over, write_again)


def _known(bench: Workbench, file: str) -> tuple[OpenedData, Wanted]:
    known = bench.opened[file]
    assert isinstance(known, OpenedData)
    return known, Wanted(known.sheet or None, None, known.language or None)


def _agree(bench: Workbench, file: str, data: bytes) -> None:
    """Record that a file and what it is of have the same values now."""
    known = bench.opened[file]
    bench.opened[file] = replace(known, digest=digest_bytes(data), of=digest_file(bench.files / known.path))


Sync = Callable[[Workbench, str, Sequence[str]], list[SyncResult]]
SYNCS: dict[str, Sync] = {  # what takes over the files of each kind, in this order
    SPRITE: _sync_sprites,
    PICTURE: _sync_assets,
    MODEL: _sync_assets,
    DATA: _sync_data,
}  # all others are assets, and come last
