"""A bench whose entries get names: what was taken under a key is moved to the path that became known."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import replace

from volvex.bench.changes import FileChange
from volvex.bench.workbench import Workbench
from volvex.layout.name_hash import UNNAMED
from volvex.names import dictionary
from volvex.names.dictionary_set import FOLDER

OWN = "own.txt"  # in the bench: the paths of entries that it adds to archives without names


def follow(bench: Workbench) -> list[tuple[str, str]]:
    """Move what has got a name since it was taken: where it was, and where it is now.

    A move that was interrupted is finished: the description is written when all files are where they belong.
    """
    moved = []
    for place in sorted({*bench.taken, *bench.dropped}):
        target = _named_place(bench, place) if f"/{UNNAMED}/" in place else None
        if target is None:
            continue
        before, after = bench.files / place, bench.files / target
        if before.is_file():
            if after.exists():  # both were put there: nobody knows which is meant
                continue
            bench.disk.make_folder(after.parent)
            bench.disk.replace(before, after)
            with contextlib.suppress(OSError):
                before.parent.rmdir()
        if place in bench.taken:
            taken = bench.taken.pop(place)
            bench.taken[target] = replace(taken, entry=target[len(taken.file) + 1 :])
        for file, opened in bench.opened.items():
            if opened.path == place:
                bench.opened[file] = replace(opened, path=target)
        if place in bench.dropped:
            bench.dropped = bench.dropped - {place} | {target}
        moved.append((place, target))
    if moved:
        bench.save()
    return moved


def _named_place(bench: Workbench, path: str) -> str | None:
    """Where something belongs that was taken under a key; None when it has no name yet."""
    name, inner = bench.home(path)
    archive = bench.archive(name) if inner.startswith(f"{UNNAMED}/") else None
    rows = archive.rows_of(inner) if archive is not None else []
    if archive is None or not rows or archive.is_unnamed(rows[0]):
        return None
    target = bench.places_in(name)[rows[0]]
    return f"{name}/{target}" if isinstance(target, str) else None


def learn(bench: Workbench, changes: Sequence[FileChange]) -> None:
    """Remember the paths of entries that are added to archives without names: nothing else would."""
    lines = []
    for change in changes:
        name, inner = bench.home(change.path)
        archive = bench.archive(name) if inner and change.what == "added" else None
        if archive is not None and archive.entries.nameless and not inner.startswith(f"{UNNAMED}/"):
            lines.append(inner)
    if lines:
        dictionary.add(bench.folder / FOLDER / OWN, lines, bench.disk)
