"""Building: only the archives that are affected are written anew, everything else in them bit for bit."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path

import numpy as np

from volvex.archive.archive import identity, open_archive
from volvex.archive.names import stays_inside
from volvex.archive.pack import encode_name
from volvex.archive.rebuild import Spool, codec_for, file_chunks, kin, rebuild
from volvex.archive.work import Advance, ignore, verify
from volvex.bench.changes import Change, changes
from volvex.bench.workbench import Workbench
from volvex.errors import FormatError, NotFoundError, RefusedError
from volvex.layout.edits import Added, Edit
from volvex.source import atomic
from volvex.source.digest import Fingerprint, digest_bytes

MANIFEST = "built.json"


@dataclass(frozen=True)
class Built:
    """A file that is ready to be installed. `base` is the original it was made from; None for a new file."""

    path: str
    size: int
    changes: int
    base: Fingerprint | None


def build(bench: Workbench, advance: Advance = ignore) -> list[Built]:
    """Make every file of the game that the bench's changes affect; the list of them, also written to `built/`.

    RefusedError when the game's file is another than the one from which something was taken and changed.
    """
    by_file: dict[str, list[Change]] = {}
    for change in changes(bench):
        by_file.setdefault(bench.home(change.path)[0], []).append(change)
    _clear(bench)
    built = [_build_file(bench, name, some, advance) for name, some in sorted(by_file.items())]
    value = {"built": 1, "files": [asdict(one) for one in built]}
    with atomic(bench.disk, bench.built / MANIFEST, durable=False) as file:
        bench.disk.write(file, (json.dumps(value, indent=1) + "\n").encode())
    return built


def read_built(folder: Path) -> list[Built]:
    """What `build` made; NotFoundError when it was not run."""
    path = folder / MANIFEST
    if not path.is_file():
        raise NotFoundError("nothing was built yet", "`volvex build`")
    try:
        files = json.loads(path.read_bytes())["files"]
        if not all(stays_inside(one["path"]) for one in files):
            raise ValueError("a path that leads out of the bench")
        return [
            Built(one["path"], one["size"], one["changes"], Fingerprint(**one["base"]) if one["base"] else None)
            for one in files
        ]
    except (ValueError, KeyError, TypeError) as error:
        raise FormatError(path, f"not a sound list of what was built: {error!r}", hint="`volvex build`") from error


def _clear(bench: Workbench) -> None:
    """Remove what an earlier build made: its list first, so that half of it is never installed."""
    if not (bench.built / MANIFEST).exists():
        return
    earlier = read_built(bench.built)
    bench.disk.remove(bench.built / MANIFEST)
    for one in earlier:
        bench.disk.remove(bench.built / one.path)


def _build_file(bench: Workbench, name: str, some: Sequence[Change], advance: Advance) -> Built:
    target, original = bench.built / name, bench.game.original(name)
    if some[0].path == name:  # a file of its own
        with atomic(bench.disk, target, durable=False) as file:
            for chunk in file_chunks(bench.files / name):
                bench.disk.write(file, chunk)
        return Built(name, target.stat().st_size, 1, Fingerprint.of(original) if original else None)
    assert original is not None
    if bench.renewed(name):
        _check_origins(bench, some)
    size = _build_archive(bench, name, some, target, advance)
    return Built(name, size, len(some), Fingerprint.of(original))


def _check_origins(bench: Workbench, some: Sequence[Change]) -> None:
    """The archive is another than when the bench was made: what was changed must still be what was taken."""
    for change in some:
        known = bench.taken.get(change.path)
        if known is not None and digest_bytes(b"".join(bench.original_content(change.path))) != known.digest:
            raise RefusedError(f"{change.path}: the game's own file is another than the one that was taken (an update?)",
                               f"keeping a copy, then `volvex take --again {change.path}`")  # fmt: skip


def _build_archive(bench: Workbench, name: str, some: Sequence[Change], target: Path, advance: Advance) -> int:
    archive = bench.archive(name)
    if archive is None:
        raise FormatError(name, "no layout knows this file, so nothing can be put into it")
    bench.disk.make_folder(target.parent)
    with Spool(target.parent) as spool:
        edit = Edit()
        for change in some:
            row = bench.row(change.path)
            inner = bench.home(change.path)[1]
            if change.what == "removed":
                assert row is not None
                edit.removed.add(row)
                continue
            like = kin(archive, inner) if row is None else row
            content = spool.add(file_chunks(bench.files / change.path), archive, codec_for(archive, like))
            if row is None:
                edit.added.append(Added(encode_name(archive, inner), like, content))
            else:
                edit.replaced[row] = content
        size = rebuild(archive, edit, target, bench.disk, advance)
    _verify(bench, name, target, some)
    return size


def _verify(bench: Workbench, name: str, target: Path, some: Sequence[Change]) -> None:
    """What was changed can be read back from what was built."""
    archive = bench.archive(name)
    written = open_archive(target, bench.library, target.as_posix(), archive.layout if archive else None)
    assert written is not None
    with written:
        told = [
            bench.taken[c.path].entry if c.path in bench.taken else bench.home(c.path)[1]
            for c in some
            if c.what != "removed"
        ]
        wanted = set(map(identity, told))
        rows = (
            [row for row, entry in enumerate(written.names) if identity(entry) in wanted]
            if len(wanted) < len(written)
            else range(len(written))
        )
        faults = verify(written, np.array(rows, dtype=np.int64))
    if faults:
        raise faults[0]


__all__ = ["Built", "build", "read_built"]
