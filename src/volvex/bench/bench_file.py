"""A bench's own file: which game, what was taken from where, what is left out, what is open in other programs."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from volvex.archive.access.paths import DESCRIPTION
from volvex.archive.safe_names import stays_inside
from volvex.bench.opened import OpenedFile, opened_of
from volvex.errors import FormatError, NotFoundError
from volvex.source import typed
from volvex.source.digest import Fingerprint, is_digest

FORMAT = 2


@dataclass(frozen=True)
class Taken:
    """Something that was taken: from which file of the game, or archive within an archive, which entry of it, and what
    it was."""

    file: str
    entry: str  # empty for a file that is no archive's entry
    size: int
    digest: str


@dataclass(frozen=True)
class Description:
    """All that a bench's file says."""

    game: str
    fingerprints: dict[str, Fingerprint]
    taken: dict[str, Taken]
    dropped: set[str]
    opened: dict[str, OpenedFile]
    layouts: dict[str, str]  # patterns of paths, and the titles of the layouts to which they are tied
    encodings: dict[str, str]  # patterns of paths of texts, and their encodings
    after: dict[str, str]  # paths of new entries, and of those behind which they stand


def read_description(folder: Path) -> Description:
    """What a bench's file says; NotFoundError when the folder is none, FormatError when the file is not sound."""
    path = folder / DESCRIPTION
    if not path.is_file():
        raise NotFoundError(f"{folder} is not a bench", "`volvex bench GAME` to make one, or --bench DIR")
    try:
        value = typed.load(path)
        version = typed.whole(typed.member(value, "bench"))
        if not 1 <= version <= FORMAT:
            raise FormatError(
                path, f"a bench of version {version}, this Volvex reads up to version {FORMAT}", hint="a newer Volvex"
            )
        found = Description(
            _folder(typed.member(value, "game")),
            {_inside(name): fingerprint(record) for name, record in typed.items(typed.member(value, "fingerprints"))},
            {_inside(name): _taken(record) for name, record in typed.items(typed.member(value, "taken"))},
            {_inside(one) for one in typed.listed(value.get("dropped", []))},
            {_inside(name): opened_of(record, version) for name, record in typed.items(value.get("opened", {}))},
            *(
                {typed.text(pattern): typed.text(one) for pattern, one in typed.mapping(value.get(what, {})).items()}
                for what in ("layouts", "encodings", "after")
            ),
        )
    except ValueError as error:
        raise FormatError(
            path, f"not a valid bench: {error}", hint="a new bench; the files in `files` can be copied over"
        ) from error
    return found


def fingerprint(record: dict[str, Any]) -> Fingerprint:
    """A fingerprint out of a JSON file; ValueError when it is none."""
    size, sample = typed.whole(typed.member(record, "size")), typed.text(typed.member(record, "sample"))
    return Fingerprint(size, sample, typed.whole(record.get("time", 0)))


def _folder(value: object) -> str:
    if "\0" in typed.text(value):
        raise ValueError("a folder that no disk can have")
    return typed.text(value)


def _inside(value: object) -> str:
    if not stays_inside(typed.text(value)) or "\0" in typed.text(value):
        raise ValueError("a path that leads out of the bench")
    return typed.text(value)


def _taken(record: dict[str, Any]) -> Taken:
    entry = typed.text(typed.member(record, "entry"))
    return Taken(
        _inside(typed.member(record, "file")),
        entry,
        typed.whole(typed.member(record, "size")),
        _digest(typed.member(record, "digest")),
    )


def _digest(value: object) -> str:
    """A digest: it names a file in the folder `base`."""
    if not is_digest(typed.text(value)):
        raise ValueError("an invalid digest")
    return typed.text(value)
