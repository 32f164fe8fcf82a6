"""What hunts found: names beyond doubt go into a dictionary of their own; the rest waits until somebody accepts it."""

from __future__ import annotations

import fnmatch
import json
from collections.abc import Iterable, Sequence
from dataclasses import asdict
from pathlib import Path

from volvex.errors import FormatError
from volvex.names import dictionary
from volvex.names.evidence import EvidenceKind, Find, Kind
from volvex.source import Disk, atomic

FOUND, WAITING = "found.txt", "waiting.json"


def keep(folder: Path, finds: Sequence[Find], disk: Disk) -> tuple[list[Find], list[Find]]:
    """Put finds that are beyond doubt into the dictionary in a folder, the others among those that wait: which are
    which."""
    sure = [find for find in finds if find.beyond_doubt]
    rest = [find for find in finds if not find.beyond_doubt]
    if sure:
        dictionary.add(folder / FOUND, [find.path for find in sure], disk)
    named = {(find.archive, find.key) for find in sure}
    before = [find for find in waiting(folder) if (find.archive, find.key) not in named]
    if rest or before != waiting(folder):
        _write(folder, {(find.archive, find.key, find.path): find for find in (*before, *rest)}.values(), disk)
    return sure, rest


def waiting(folder: Path) -> list[Find]:
    """The finds that wait; FormatError when their file is not sound."""
    path = folder / WAITING
    if not path.is_file():
        return []
    try:
        return [
            Find(
                one["path"],
                one["archive"],
                one["key"],
                EvidenceKind(one["how"]),
                one["where"],
                Kind(one["kind"]),
                float(one["doubt"]),
            )
            for one in json.loads(path.read_bytes())["waiting"]
        ]
    except (ValueError, KeyError, TypeError) as error:
        raise FormatError(
            path, f"not a valid list of found names: {error!r}", hint="removing it, and searching again"
        ) from error


def accept(folder: Path, wanted: Iterable[str], disk: Disk) -> list[Find]:
    """Accept finds that wait, by patterns of their paths: each goes into the dictionary with the key that it stands
    for."""
    there = waiting(folder)
    taken = _matching(there, wanted)
    if taken:
        dictionary.add(folder / FOUND, [dictionary.line_of(find.path, find.key) for find in taken], disk)
        named = {(find.archive, find.key) for find in taken}
        _write(folder, [find for find in there if (find.archive, find.key) not in named], disk)
    return taken


def forget(folder: Path, wanted: Iterable[str], disk: Disk) -> list[Find]:
    """Throw finds that wait away."""
    there = waiting(folder)
    gone = _matching(there, wanted)
    if gone:
        _write(folder, [find for find in there if find not in gone], disk)
    return gone


def _matching(finds: Sequence[Find], wanted: Iterable[str]) -> list[Find]:
    patterns = list(wanted)
    return [find for find in finds if any(fnmatch.fnmatchcase(find.path, pattern) for pattern in patterns)]


def _write(folder: Path, finds: Iterable[Find], disk: Disk) -> None:
    value = {"waiting": [asdict(find) for find in finds]}
    with atomic(disk, folder / WAITING) as out:
        disk.write(out, (json.dumps(value, indent=1) + "\n").encode())
