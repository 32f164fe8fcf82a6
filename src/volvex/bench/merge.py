"""Carrying changes over: saved as a list by key and field, and put into the game's newer files without losing what
others did."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from volvex.archive.safe_names import quoted, shown, stays_inside
from volvex.bench.bases import base_of, keep_base
from volvex.bench.bench_file import Taken
from volvex.bench.semantic_diff import FileDiff, bench_document
from volvex.bench.workbench import Workbench
from volvex.data import Change, Document, open_data, require_data
from volvex.data.differences import Conflict, change_of, differences, merged, plain
from volvex.data.verify import edited
from volvex.errors import FormatError, NotFoundError, RefusedError
from volvex.source import atomic, typed
from volvex.source.digest import Fingerprint, digest_bytes, digest_file

FORMAT = 1


@dataclass
class MergeResult:
    """The result of merging changes into one file."""

    path: str
    made: list[Change] = field(default_factory=list)
    done: int = 0  # that were there already
    conflicts: list[Conflict] = field(default_factory=list)
    taken: bool = False  # it was not edited, and is now the game's new one


def saved(game: str, diffs: Iterable[FileDiff]) -> bytes:
    """Changes as a file: readable, and small."""
    files = {diff.file.path: [plain(change) for change in diff.changes] for diff in diffs if diff.changes}
    return (json.dumps({"changes": FORMAT, "game": game, "files": files}, indent=1, ensure_ascii=False) + "\n").encode(
        "utf-8", "surrogateescape"
    )


def read_saved(path: Path) -> dict[str, list[Change]]:
    """The changes in a file, by path; FormatError when it is none."""
    if not path.is_file():
        raise NotFoundError(f"there is no file {shown(path.as_posix())}", "one that `volvex changes --save` wrote")
    try:
        value = typed.load(path)
        if value.get("changes") != FORMAT or not isinstance(value.get("files"), dict):
            raise ValueError("no list of changes")
    except ValueError as error:
        raise FormatError(
            path, f"not a file of changes: {error}", hint="one that `volvex changes --save` wrote"
        ) from error
    files: Mapping[str, Any] = value["files"]
    if not all(isinstance(name, str) and stays_inside(name) and isinstance(file, list) for name, file in files.items()):
        raise FormatError(path, "a path that leads out of the bench")
    return {name: [change_of(one, str(path)) for one in file] for name, file in files.items()}


def apply(bench: Workbench, wanted: Mapping[str, list[Change]], write: bool = True) -> list[MergeResult]:
    """Put changes into the bench's files, which are taken when they are not there. Nothing is written when there is a
    conflict."""
    found: list[tuple[MergeResult, Document]] = []
    for path, changes in wanted.items():
        document = require_data(bench.current(path), bench.library, path)
        found.append((_carried(path, changes, document), document))
    conflicts = any(result.conflicts for result, _ in found)
    if write and not conflicts:
        written = [(result, edited(document, result.made)) for result, document in found if result.made]
        for result, data in written:
            _, file = bench.open_for_edit(result.path)
            _put(bench, file, data)
    return [result for result, _ in found]


def _carried(path: str, changes: Iterable[Change], document: Document) -> MergeResult:
    result = merged(changes, document)
    return MergeResult(path, result.todo, len(result.done), result.conflicts)


def _put(bench: Workbench, file: Path, data: bytes) -> None:
    with atomic(bench.disk, file, durable=False) as out:
        bench.disk.write(out, data)


def renew(bench: Workbench, write: bool = True) -> list[MergeResult]:
    """Carry the bench's edits over to the files of a game that is newer than when they were taken.

    Three-way, by key and field: what was taken, what the bench made of it, what the game has now. Nothing is written
    when there is a conflict; RefusedError for an edited file whose bytes nobody knows the meaning of.
    """
    found: list[tuple[MergeResult, str, bytes | None]] = []
    for place, known in bench.taken.items():
        file = bench.files / place
        if not file.is_file() or not bench.renewed(known.file):
            continue
        theirs = b"".join(bench.original_content(place))
        if digest_bytes(theirs) == known.digest:
            continue
        if digest_file(file) == known.digest:
            found.append((MergeResult(place, taken=True), place, theirs))
            continue
        found.append((*_renewed(bench, place, known, theirs),))
    if write and not any(result.conflicts for result, _, _ in found):
        for _, place, data in found:
            _settle(bench, place, data)
        for name in {bench.file_of(known.file) for known in bench.taken.values()}:
            original = bench.game.original(name)
            if original is not None:
                bench.fingerprints[name] = Fingerprint.of(original)
        bench.save()
    return [result for result, _, _ in found]


def _renewed(bench: Workbench, path: str, known: Taken, theirs: bytes) -> tuple[MergeResult, str, bytes | None]:
    base = base_of(bench.folder, known.digest)
    before = open_data(base, bench.library, path) if base is not None else None
    ours = bench_document(bench, path)
    now = open_data(theirs, bench.library, path) if theirs else None
    if before is None or ours is None or now is None:
        raise RefusedError(
            f"{path}: the game's own file is another than the one that was taken, and its format is unknown",
            f"keeping a copy, then `volvex take --overwrite {quoted(path)}`",
        )
    carried = _carried(path, differences(before, ours), now)
    return carried, path, None if carried.conflicts else edited(now, carried.made)


def _settle(bench: Workbench, path: str, data: bytes | None) -> None:
    """Write what came of it, and remember the game's new file as the one that was taken."""
    assert data is not None
    known, theirs = bench.taken[path], b"".join(bench.original_content(path))
    _put(bench, bench.files / path, data)
    bench.taken[path] = Taken(known.file, known.entry, len(theirs), digest_bytes(theirs))
    keep_base(bench.folder, bench.taken[path].digest, theirs, bench.disk)
