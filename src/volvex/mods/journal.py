"""The journal: what is installed, and the transaction under way. One file, replaced as a whole and synced."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from volvex.errors import FormatError
from volvex.source import Disk, atomic

FORMAT = 1


@dataclass(frozen=True)
class Installed:
    """A file of the game that is not as it was. Digests; no original means that the game had no such file."""

    original: str | None
    now: str
    folder: str = ""  # the topmost folder that had to be made for it
    stamp: str = ""  # size and time of what was installed: while they hold, it need not be read to be known
    entries: tuple[str, ...] = ()  # that were changed in place; none when the file was replaced as a whole


@dataclass(frozen=True)
class Move:
    """One file of a transaction: from `old` to `new` (digests, None: no file). `staged` is where the new
    content waits, relative to the journal's folder."""

    path: str
    old: str | None
    new: str | None
    staged: str | None
    folder: str = ""  # goes when the file goes, if it is empty then


@dataclass(frozen=True)
class Writing:
    """Stretches that are to be written into a file of the game: where, from where in `staged`, how many bytes; its size then."""

    path: str
    staged: str
    spans: list[list[int]]
    size: int
    until: int  # where what is there before and after ends
    rest: str  # a sample of what is left as it is up to there: a file in which that differs is another by now


@dataclass
class State:
    """All that the journal says."""

    installed: dict[str, Installed] = field(default_factory=dict)
    verb: str = ""  # install or restore, while one is under way
    moves: list[Move] = field(default_factory=list)
    after: dict[str, Installed] = field(default_factory=dict)  # what is installed once the moves are done
    kept: list[str] = field(default_factory=list)  # originals of files that others changed since
    writings: list[Writing] = field(default_factory=list)

    def text(self) -> str:
        return json.dumps({"journal": FORMAT, **asdict(self)}, indent=1) + "\n"


def read_state(folder: Path) -> State:
    """The journal in a folder; an empty one when there is none."""
    path = folder / "state.json"
    if not path.is_file():
        return State()
    try:
        value = json.loads(path.read_bytes())
        if value.pop("journal") != FORMAT:
            raise FormatError(path, "a journal of another version", hint="the newest Volvex")
        return State(
            _installed(value["installed"]), value["verb"], [Move(**one) for one in value["moves"]], _installed(value["after"]),
            list(value["kept"]), [Writing(**one) for one in value.get("writings", ())],
        )  # fmt: skip
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise FormatError(
            path,
            f"not a sound journal: {error!r}",
            hint="leaving `.volvex` as it is and asking for help: the originals are in it",
        ) from error


def _installed(value: dict[str, dict[str, Any]]) -> dict[str, Installed]:
    return {name: Installed(**{**one, "entries": tuple(one.get("entries", ()))}) for name, one in value.items()}


def write_state(folder: Path, state: State, disk: Disk) -> None:
    """Replace the journal."""
    with atomic(disk, folder / "state.json") as file:
        disk.write(file, state.text().encode())
