"""A bench's own file: which game, what was taken from where, what is left out, what is open in other programs."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from volvex.archive.names import stays_inside
from volvex.errors import FormatError, NotFoundError
from volvex.source.digest import Fingerprint

FORMAT = 1
DESCRIPTION = "bench.json"


@dataclass(frozen=True)
class Taken:
    """Something that was taken: from which file of the game, or archive within an archive, which entry of it, and what it was."""

    file: str
    entry: str  # empty for a file that is no archive's entry
    size: int
    digest: str


@dataclass(frozen=True)
class Opened:
    """A file in the folder `open`: of what it is a form, and the fingerprints of both when they last were the same."""

    place: str
    ending: str
    sheet: str
    language: str
    digest: str
    of: str


def read_description(folder: Path) -> dict[str, Any]:
    """What a bench's file says; NotFoundError when the folder is none, FormatError when the file is not sound."""
    path = folder / DESCRIPTION
    if not path.is_file():
        raise NotFoundError(f"{folder} is not a bench", "`volvex bench GAME` to make one, or --bench DIR")
    try:
        value = json.loads(path.read_bytes())
        if value["bench"] != FORMAT:
            raise FormatError(
                path, f"a bench of version {value['bench']}, this Volvex knows {FORMAT}", hint="a newer Volvex"
            )
        {name: Fingerprint(**one) for name, one in value["fingerprints"].items()}
        {name: Taken(**one) for name, one in value["taken"].items()}
        {name: Opened(**one) for name, one in value.get("opened", {}).items()}
        Path(value["game"])
        told = {
            *value["fingerprints"],
            *value["taken"],
            *value.get("dropped", ()),
            *(one["file"] for one in value["taken"].values()),
            *value.get("opened", {}),
            *(one["place"] for one in value.get("opened", {}).values()),
        }
        if not all(map(stays_inside, told)):
            raise ValueError("a path that leads out of the bench")
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise FormatError(
            path, f"not a sound bench: {error!r}", hint="a new bench; the files in `files` can be copied over"
        ) from error
    return dict(value)
