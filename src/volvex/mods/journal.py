"""The journal: what is installed, which originals are kept for it, and the transaction under way.

It is written twice, `state.json` and then `state.copy.json`, each replaced as a whole, synced, and with a checksum. One
of them may rot, or be lost in a power cut: the newer sound one counts. When neither is sound, nothing is touched.
"""

from __future__ import annotations

import errno
import json
import os
import re
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from volvex.archive.safe_names import stays_inside
from volvex.errors import FormatError
from volvex.source import Disk, atomic, typed
from volvex.source.digest import digest_bytes, is_digest
from volvex.source.typed import text, whole

FORMAT = 4
READ = (3, 4)  # 3 had neither files that are gone nor lists
NAMES = ("state.json", "state.copy.json")
ROOM = 1 << 14  # bytes: the journal's files are multiples of it, and a few times larger than what they say
VERBS = ("", "install", "restore", "build --in-place")
BLOCKS = "blocks "  # before a digest of the digests of blocks

_TOKEN = re.compile(r"(?:blocks )?[0-9a-f]{64}")
_WAITING = re.compile(r"incoming/[a-z0-9-]{1,40}|originals/[0-9a-f]{64}")
_ASIDE = re.compile(r"replaced/[a-z0-9-]{1,40}")


@dataclass(frozen=True)
class Installed:
    """A file of the game that is not as it was. No original means that the game had no such file."""

    original: str | None  # the digest under which the store keeps it
    now: str  # the digest of what was installed, empty for no file; of what was changed in place the digest of `blocks`
    folder: str = ""  # the topmost folder that had to be made for it
    stamp: str = ""  # size and time of what was installed: while they hold, it need not be read to be known
    entries: tuple[
        tuple[str, int], ...
    ] = ()  # that were changed in place, by address; none when it was replaced as a whole
    blocks: str = ""  # the digests of its blocks, when it was changed in place
    by: str = ""  # which bench it came from, or that it was made of mods
    made_of: tuple[str, ...] = ()  # the mods and the bench that have changes in it
    source: str = ""  # size and time of the built file that it is a copy of: while they hold, that need not be read
    lines: tuple[str, ...] = ()  # that were put into a list; the rest of it is the game's, or of others


@dataclass(frozen=True)
class Older:
    """An original of a file that has been updated since: kept until exactly these bytes are back."""

    path: str
    original: str


@dataclass(frozen=True)
class Move:
    """One file of a transaction: from `old` to `new` (digests, None: no file). `incoming` is where the new content
    waits, `aside` where the old content goes until all is done; both are relative to the journal's folder."""

    path: str
    old: str | None
    new: str | None
    incoming: str | None
    aside: str
    folder: str = ""  # made for the file, or to go with it when it is empty then
    stamp: str = ""  # size and time of the old file


@dataclass(frozen=True)
class Writing:
    """Stretches that are to be written into a file of the game: where, from where in `incoming`, how many bytes.

    `undo` holds what is there before, in the same order, as far as the file went; `blocks` are the digests of the
    file's blocks then.
    """

    path: str
    incoming: str
    undo: str
    spans: list[list[int]]
    before: int  # the file's size
    size: int  # and afterwards
    blocks: str


@dataclass
class State:
    """All that the journal says."""

    installed: dict[str, Installed] = field(default_factory=dict)
    older: list[Older] = field(default_factory=list)
    verb: str = ""  # what is under way
    moves: list[Move] = field(default_factory=list)
    writings: list[Writing] = field(default_factory=list)
    after: dict[str, Installed] = field(default_factory=dict)  # what is installed once the moves are done
    generation: int = 0

    @property
    def under_way(self) -> bool:
        return bool(self.moves or self.writings)

    @property
    def empty(self) -> bool:
        """Whether nothing would be lost with it."""
        return not (self.under_way or self.installed or self.older)

    def needed(self) -> set[str]:
        """The digests of all originals that belong to something."""
        found = {
            installed.original
            for state in (self.installed, self.after)
            for installed in state.values()
            if installed.original
        }
        return found | {older.original for older in self.older}

    def written(self) -> str:
        body = json.dumps(asdict(self), indent=1)
        return f'{{"journal": {FORMAT}, "checksum": "{digest_bytes(body.encode())}", "state":\n{body}}}\n'


def read_state(folder: Path) -> State:
    """The journal in a folder; an empty one when there is none. FormatError when it is damaged in both its copies."""
    found, faults = list[State](), list[FormatError]()
    for name in NAMES:
        try:
            one = _read(folder / name)
        except FormatError as error:
            faults.append(error)
        else:
            found += [one] if one is not None else []
    if found:
        return max(found, key=lambda state: state.generation)
    if faults:
        raise faults[0]
    return State()


def _read(path: Path) -> State | None:
    """One copy of the journal; None when it is not there."""
    try:
        handle = os.open(path, os.O_RDONLY | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_BINARY", 0))
    except FileNotFoundError:
        return None
    except OSError as error:
        if error.errno in (errno.ELOOP, errno.EISDIR):
            raise _unsound(path, "it is a link or a folder") from error
        raise
    with os.fdopen(handle, "rb") as file:
        data = file.read(typed.LARGEST + 1)
    try:
        value = typed.parsed(data)
        if value["journal"] not in READ:
            raise ValueError(f"a journal of version {int(value['journal'])}; this Volvex reads version {FORMAT}")
        state = _state(value["state"])
        if value["checksum"] != digest_bytes(json.dumps(value["state"], indent=1).encode()):
            raise ValueError("its checksum does not match")
    except (ValueError, KeyError, TypeError, AttributeError, OverflowError) as error:
        raise _unsound(path, str(error)) from error
    return state


def _unsound(path: Path, why: str) -> FormatError:
    return FormatError(
        path,
        f"not a valid journal: {why}",
        hint="leaving `.volvex` as it is, since the originals are in it, and `restore` by the Volvex that installed it",
    )


def _state(value: Mapping[str, Any]) -> State:
    """A journal's values, each checked: they steer what is written and removed."""
    state = State(
        _installed(value["installed"]),
        [Older(_path(one["path"]), _digest(one["original"])) for one in value["older"]],
        _verb(value["verb"]),
        [_move(one) for one in value["moves"]],
        [_writing(one) for one in value["writings"]],
        _installed(value["after"]),
        whole(value["generation"]),
    )
    if any(move.path in state.after and not state.after[move.path] for move in state.moves):
        raise ValueError("a move without its file")
    return state


def _path(value: object) -> str:
    if not stays_inside(text(value)):
        raise ValueError("a path that leads out of the game")
    return text(value)


def _digest(value: object) -> str:
    if not is_digest(text(value)):
        raise ValueError("an invalid digest")
    return text(value)


def _token(value: object) -> str:
    if not _TOKEN.fullmatch(text(value)):
        raise ValueError("an invalid digest")
    return text(value)


def _blocks(value: object) -> str:
    if not re.fullmatch(r"[0-9a-f]*", text(value)) or len(text(value)) % 64:
        raise ValueError("invalid digests of blocks")
    return text(value)


def _within(value: object, pattern: re.Pattern[str]) -> str:
    if not pattern.fullmatch(text(value)):
        raise ValueError("a file that Volvex did not put there")
    return text(value)


def _verb(value: object) -> str:
    if value not in VERBS:
        raise ValueError("an unknown transaction")
    return text(value)


def _folder(value: object) -> str:
    return _path(value) if value != "" else ""


def _installed(value: Mapping[str, Mapping[str, Any]]) -> dict[str, Installed]:
    return {
        _path(name): Installed(
            None if record["original"] is None else _digest(record["original"]),
            _token(record["now"]) if record["now"] else "",
            _folder(record["folder"]),
            text(record["stamp"]),
            tuple((text(name), whole(number)) for name, number in record["entries"]),
            _blocks(record["blocks"]),
            text(record["by"]),
            tuple(map(text, record.get("made_of", ()))),
            text(record.get("source", "")),
            tuple(map(text, record.get("lines", ()))),
        )
        for name, record in value.items()
    }


def _move(record: Mapping[str, Any]) -> Move:
    return Move(
        _path(record["path"]),
        None if record["old"] is None else _token(record["old"]),
        None if record["new"] is None else _digest(record["new"]),
        None if record["incoming"] is None else _within(record["incoming"], _WAITING),
        _within(record["aside"], _ASIDE),
        _folder(record["folder"]),
        text(record["stamp"]),
    )


def _writing(record: Mapping[str, Any]) -> Writing:
    spans = [[whole(number) for number in span] for span in record["spans"]]
    if any(len(span) != 3 for span in spans):
        raise ValueError("an invalid stretch")
    return Writing(
        _path(record["path"]),
        _within(record["incoming"], _WAITING),
        _within(record["undo"], _WAITING),
        spans,
        whole(record["before"]),
        whole(record["size"]),
        _blocks(record["blocks"]),
    )


def write_state(folder: Path, state: State, disk: Disk) -> None:
    """Replace the journal, both copies.

    They have room behind what they say, so that on a full disk they can be written over where they lie: a copy that is
    torn by that does no harm, since the other one is sound then.
    """
    state.generation += 1
    data = state.written().encode()
    paths = [folder / name for name in NAMES]
    room = max([ROOM * (len(data) // ROOM + 4), *(path.stat().st_size for path in paths if path.is_file())])
    for path in paths:
        try:
            with atomic(disk, path) as file:
                disk.write(file, data.ljust(room))
        except OSError as error:
            if error.errno != errno.ENOSPC:
                raise
            if not path.is_file() and path != paths[0] and read_state(folder).generation == state.generation:
                continue  # the first copy is written, and there was no second one yet: nothing had begun
            if not path.is_file() or path.stat().st_size < len(data):
                raise
            with path.open("r+b") as file:
                disk.overwrite(file, data.ljust(path.stat().st_size))
                disk.sync(file)
