"""Taking an edit of the folder `open` over into the bench's files, as one step: a kill in the middle leaves the state
before it.

What the files were is kept until the bench's description says that the edit was taken over. Where a kill came between,
they are put back, so that the edit is taken over again by the next command.
"""

from __future__ import annotations

import contextlib
import json
import shutil
from collections.abc import Iterator, Sequence
from pathlib import Path

from volvex.archive.transfer.rebuild import file_chunks
from volvex.bench.opened import record_of
from volvex.bench.workbench import Workbench
from volvex.source import atomic, typed

FOLDER, MANIFEST = "base/takeover", "takeover.json"


@contextlib.contextmanager
def taking_over(bench: Workbench, files: Sequence[str], places: Sequence[str]) -> Iterator[None]:
    """Write what `places` become, and then the records of the opened `files`. All of it, or what was there is put
    back."""
    folder = bench.folder / FOLDER
    shutil.rmtree(folder, ignore_errors=True)
    kept: dict[str, str] = {}
    for number, place in enumerate(dict.fromkeys(places)):
        there = (bench.files / place).is_file()
        kept[place] = str(number) if there else ""
        if there:
            _copy(bench, bench.files / place, folder / str(number))
    value = {"places": kept, "opened": _records(bench, files)}
    with atomic(bench.disk, folder / MANIFEST, durable=False) as out:
        bench.disk.write(out, json.dumps(value).encode())
    try:
        yield
    except BaseException:  # a kill is met by the next command
        with contextlib.suppress(OSError):
            put_back(bench, always=True)
        raise
    _clear(bench)


def put_back(bench: Workbench, always: bool = False) -> None:
    """Undo a take-over that was interrupted before the bench's description was written; or `always`, where that could
    not be written."""
    folder = bench.folder / FOLDER
    try:
        value = typed.load(folder / MANIFEST)
        kept = {str(place): str(number) for place, number in typed.mapping(value.get("places")).items()}
        opened = typed.mapping(value.get("opened"))
    except (OSError, ValueError):
        return
    if always or _records(bench, list(opened)) == opened:
        for place, number in kept.items():
            if number:
                _copy(bench, folder / number, bench.files / place)
            else:
                bench.disk.remove(bench.files / place)
    _clear(bench)


def _records(bench: Workbench, files: Sequence[str]) -> dict[str, object]:
    """The records of opened files, as JSON gives them back."""
    records = {file: record_of(bench.opened[file]) if file in bench.opened else None for file in files}
    return dict(json.loads(json.dumps(records)))


def _copy(bench: Workbench, source: Path, target: Path) -> None:
    with atomic(bench.disk, target, durable=False) as out:
        for chunk in file_chunks(source):
            bench.disk.write(out, chunk)


def _clear(bench: Workbench) -> None:
    """Forget what was kept: the list first, without which the rest says nothing."""
    bench.disk.remove(bench.folder / FOLDER / MANIFEST)
    shutil.rmtree(bench.folder / FOLDER, ignore_errors=True)
