"""Data of a bench as files that ordinary programs open, in its folder `open`: what is edited there comes back by itself.

Each command that works on changes looks first whether such a file was edited, and takes its values over: all of them, or
none when one does not fit. When the data was edited otherwise, the file is rewritten.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

from volvex.archive.safe_names import quoted
from volvex.bench.bench_file import Opened, is_open_model, is_open_picture, is_open_sound, is_open_sprite
from volvex.bench.open_folder import FOLDER, is_edited, settle_edited, write_file
from volvex.bench.takeover import taking_over
from volvex.bench.workbench import Workbench
from volvex.data import Document, require_data, verify
from volvex.data.exchange import Wanted, exchange_for, exported, imported
from volvex.errors import NotFoundError, RefusedError, VolvexError
from volvex.source.digest import digest_bytes, digest_file


@dataclass(frozen=True)
class SyncResult:
    """The result of taking over one file of the folder `open`."""

    place: str
    file: str
    what: str  # taken over, rewritten
    changes: int = 0
    notes: tuple[str, ...] = ()


def open_as(bench: Workbench, place: str, ending: str, wanted: Wanted, again: bool = False) -> str:
    """Write something of the bench as a file that other programs open; where, below the bench."""
    document = _document(bench, place)
    exchange_for(ending, document)  # known before anything is looked at
    suffix = f".{wanted.language}" if wanted.language else f".{wanted.sheet}" if wanted.sheet else ""
    file = f"{FOLDER}/{place}{suffix}.{ending}"
    settle_edited(bench, [file], again)
    data = exported(ending, document, wanted)
    write_file(bench, bench.folder / file, data)
    bench.opened[file] = Opened(
        place, ending, wanted.sheet or "", wanted.language or "", digest_bytes(data), digest_file(bench.files / place)
    )
    bench.save()
    return file


def _document(bench: Workbench, place: str) -> Document:
    return require_data((bench.files / place).read_bytes(), bench.library, place)


def sync_exports(bench: Workbench) -> list[SyncResult]:
    """Take over what was edited in the folder `open`, and write again what was edited elsewhere.

    RefusedError, and nothing is taken over, when the same data was edited in two files.
    """
    assets = (is_open_picture, is_open_sprite, is_open_sound, is_open_model)
    of_data = [file for file, opened in bench.opened.items() if not any(test(opened) for test in assets)]
    edited = [file for file in of_data if is_edited(bench, file)]
    places = [bench.opened[file].place for file in edited]
    twice = next((file for file in edited if places.count(bench.opened[file].place) > 1), None)
    if twice is not None:
        others = [file for file in edited if bench.opened[file].place == bench.opened[twice].place]
        raise RefusedError(f"{' and '.join(others)} are the same data and were both edited", "removing one of them")
    results = [*_sync_sprites(bench), *_sync_pictures(bench), *_sync_sounds(bench), *_sync_models(bench)]
    order = [*edited, *(file for file in of_data if file not in edited)]  # others of the same data follow
    for file in order:
        with _named(file):
            result = _fold(bench, file, bench.opened[file])
        results += [] if result is None else [result]
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


def _sync_pictures(bench: Workbench) -> list[SyncResult]:
    """Take over what was edited of pictures: all files of one together."""
    files = _by_place(bench, is_open_picture)
    if not files:
        return []
    from volvex.bench.pictures import fold_pictures

    results = []
    for place, own in files.items():
        with _named(own[0]):
            folded = fold_pictures(bench, place, own)
        if folded is not None:
            blocks = f", {folded.blocks:,} block{_s(folded.blocks)} made again" if folded.blocks else ""
            pixels = f"{folded.pixels:,} pixel{_s(folded.pixels)} taken over{blocks}"
            said = "rewritten" if folded.rewritten else f"left as it was: {folded.fault}" if folded.fault else pixels
            results.append(SyncResult(place, " and ".join(folded.files), said, 0, folded.notes))
    return results


def _sync_sounds(bench: Workbench) -> list[SyncResult]:
    """Take over what was edited of sounds."""
    files = _by_place(bench, is_open_sound)
    if not files:
        return []
    from volvex.bench.sounds import Folded, fold_sounds

    results, folded = [], list[tuple[str, Folded]]()
    for place, own in files.items():
        with _named(own[0]):
            folded += ((place, one) for one in fold_sounds(bench, place, own))
    for place, one in folded:
        frames = f"{one.frames:,} frame{_s(one.frames)} taken over"
        said = "rewritten" if one.rewritten else f"left as it was: {one.fault}" if one.fault else frames
        results.append(SyncResult(place, one.file, said, 0, one.notes))
    return results


def _sync_models(bench: Workbench) -> list[SyncResult]:
    """Take over what was edited of models."""
    files = _by_place(bench, is_open_model)
    if not files:
        return []
    from volvex.bench.models import Folded, fold_model

    results, folded = [], list[tuple[str, Folded]]()
    for place, own in files.items():
        with _named(own[0]):
            folded += ((place, one) for one in fold_model(bench, place, own))
    for place, one in folded:
        others = [name for name in one.written if name != place]
        vertices = f"{one.vertices:,} {'vertex' if one.vertices == 1 else 'vertices'} taken over"
        into = f"changes applied to {', '.join(others)}"
        taken = ", ".join(([vertices] if one.vertices or not others else []) + ([into] if others else []))
        said = "rewritten" if one.rewritten else f"left as it was: {one.fault}" if one.fault else taken
        results.append(SyncResult(place, one.file, said, 0, one.notes))
    return results


def _s(number: int) -> str:
    return "" if number == 1 else "s"


def _sync_sprites(bench: Workbench) -> list[SyncResult]:
    """Take over the edited frames of sprite sheets."""
    files = _by_place(bench, is_open_sprite)
    if not files:
        return []
    from volvex.bench.sprites import fold_sprites

    results = []
    for place, own in files.items():
        with _named(own[0]):
            folded = fold_sprites(bench, place, own)
        if folded is not None:
            results.append(SyncResult(place, f"{FOLDER}/{place}.sprites", folded.summary()))
    return results


def _by_place(bench: Workbench, wanted: Callable[[Opened], bool]) -> dict[str, list[str]]:
    """The files of one kind in the folder `open`, by what they are of."""
    files: dict[str, list[str]] = {}
    for file, opened in bench.opened.items():
        if wanted(opened):
            files.setdefault(opened.place, []).append(file)
    return files


def _fold(bench: Workbench, file: str, opened: Opened) -> SyncResult | None:
    source, target = bench.folder / file, bench.files / opened.place
    if not source.is_file():
        del bench.opened[file]
        bench.save()
        return None
    if not target.is_file():
        raise NotFoundError(
            f"{file} belongs to {opened.place}, which is no longer on the bench",
            f"`volvex take {quoted(opened.place)}`, or removing {file}",
        )
    edited, moved = is_edited(bench, file), digest_file(target) != opened.of
    if not edited and not moved:
        return None
    wanted = Wanted(opened.sheet or None, None, opened.language or None)
    if edited and moved:
        raise RefusedError(
            f"{file} and {opened.place} were both edited",
            f"`volvex undo {quoted(file)}` to keep the other one",
        )
    try:
        document = _document(bench, opened.place)
    except VolvexError as error:
        if edited:
            raise
        return SyncResult(opened.place, file, f"left as it was: {error.message}")
    if not edited:
        data = exported(opened.ending, document, wanted)
        write_file(bench, source, data)
        bench.opened[file] = replace(opened, digest=digest_bytes(data), of=digest_file(target))
        bench.save()
        return SyncResult(opened.place, file, "rewritten")
    data = source.read_bytes()
    incoming = imported(opened.ending, data, document, wanted, file)
    written = verify.edited(document, incoming.changes) if incoming.changes else b""
    with taking_over(bench, [file], [opened.place]):
        if incoming.changes:
            write_file(bench, target, written)
        bench.opened[file] = replace(opened, digest=digest_bytes(data), of=digest_file(target))
        bench.save()
    return SyncResult(opened.place, file, "taken over", len(incoming.changes), tuple(incoming.notes))
