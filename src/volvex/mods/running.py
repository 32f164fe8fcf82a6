"""Starting a game by its description and reading its log: which lines are errors, and which mod each of them is about.

The command comes from a game description in the user's or Volvex's own folder, never from a mod or the game's folder,
and runs without a shell.
"""

from __future__ import annotations

import os
import re
import subprocess
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from volvex.bench.game_description import GameDescription
from volvex.errors import NotFoundError, RefusedError
from volvex.mods.mod.content import FieldChanges, Mod

ERRORS = ("error", "refused", "fatal", "exception", "failed", "could not", "cannot")
WARNINGS = ("warning", "warn:", "deprecated", "missing")
PAUSE = 0.1  # seconds between two looks at the log
LONGEST = 1 << 16  # bytes of a line that are read
MOST_NEW = 1 << 26  # bytes of the log that are read of one run
_WORD = re.compile(r"[\w./-]+")


@dataclass(frozen=True)
class LogLine:
    """A line of a log; `level` is error, warning or nothing; `mods` are those that it may be about, the likeliest
    first."""

    text: str
    level: str = ""
    mods: tuple[str, ...] = ()


@dataclass
class Run:
    """A run of a game."""

    status: int | None = None  # of its process; None while it runs, or when it was ended here
    seconds: float = 0.0
    lines: list[LogLine] = field(default_factory=list)

    @property
    def errors(self) -> int:
        return sum(line.level == "error" for line in self.lines)

    @property
    def failed(self) -> bool:
        """Whether it ended with an error status, or wrote an error into its log."""
        return self.status not in (0, None) or self.errors > 0


def command_of(description: GameDescription, game: Path, python: str) -> list[str]:
    """The words that start a game; RefusedError when its description has none."""
    if not description.start:
        raise RefusedError(
            f"{description.called} gives no command that starts the game",
            'a line start = ["{game}/GAME.exe"] in a game.toml for it (docs/games.md)',
        )
    return [word.replace("{game}", str(game)).replace("{python}", python) for word in description.start]


class LogMarks:
    """What marks a line of a log, and the mods that lines may be about."""

    def __init__(self, description: GameDescription, mods: Iterable[Mod] = ()) -> None:
        self.errors = tuple(text.casefold() for text in description.errors or ERRORS)
        self.warnings = tuple(text.casefold() for text in description.warnings or WARNINGS)
        self._words: dict[str, dict[str, int]] = {}  # a word -> mods, with how much it says
        for mod in mods:
            for word, weight in _words_of(mod).items():
                self._words.setdefault(word, {})[mod.id] = weight

    def line(self, text: str) -> LogLine:
        """A line with its level, and the mods that it names something of."""
        folded = text.casefold()
        level = "error" if any(mark in folded for mark in self.errors) else ""
        level = level or ("warning" if any(mark in folded for mark in self.warnings) else "")
        weights: dict[str, int] = {}
        for word in set(_WORD.findall(text)) if level else ():
            for mod, weight in self._words.get(word.strip(".,:;'").casefold(), {}).items():
                weights[mod] = weights.get(mod, 0) + weight
        best = max(weights.values(), default=0)
        return LogLine(text, level, tuple(sorted(mod for mod, weight in weights.items() if weight == best)))


def _words_of(mod: Mod) -> Mapping[str, int]:
    """The paths, names of files and ids that a mod has changes of; a whole path says more than an id, and that more
    than a name."""
    found: dict[str, int] = {}
    for path, part in mod.parts.items():
        parts = path.casefold().split("/")
        for start in range(len(parts) - 1):
            found["/".join(parts[start:])] = 4
        found.setdefault(parts[-1], 1)
        for change in part.changes if isinstance(part, FieldChanges) else ():
            found[change.id.casefold()] = 2
            if change.after:
                found.setdefault(change.after.casefold(), 3)
    return found


def read_log(path: Path, marks: LogMarks, start: int = 0) -> Iterator[LogLine]:
    """The lines of a log from a byte on."""
    if not path.is_file():
        raise NotFoundError(f"there is no log {path}", "`volvex start`, which makes the game write one")
    for text in _new_lines(path, start)[0]:
        yield marks.line(text)


def _new_lines(path: Path, start: int, whole: bool = False) -> tuple[list[str], int]:
    """The lines behind a byte, and where the next look starts; a line without its end is left for then, unless
    `whole`."""
    try:
        with path.open("rb") as file:
            size = os.fstat(file.fileno()).st_size
            file.seek(start if start <= size else 0)  # it was begun again
            data = file.read(MOST_NEW)
    except FileNotFoundError:
        return [], 0
    begin = start if start <= size else 0
    if not whole and b"\n" in data:
        data = data[: data.rindex(b"\n") + 1]
    elif not whole:
        return [], begin
    lines = data.decode("utf-8", "replace").splitlines()
    return [line[:LONGEST] for line in lines], begin + len(data)


def run_game(
    command: Sequence[str],
    folder: Path,
    log: Path | None,
    marks: LogMarks,
    on_line: Callable[[LogLine], None] = lambda line: None,
    limit: float | None = None,
) -> Run:
    """Start a game, follow its log until it ends, and give each new line to `on_line`. After `limit` seconds it is
    ended: it runs then."""
    run, began = Run(), time.monotonic()
    at = log.stat().st_size if log is not None and log.is_file() else 0
    try:
        process = subprocess.Popen(
            list(command), cwd=folder, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
    except OSError as error:
        raise RefusedError(
            f"{command[0]} cannot be started: {(error.strerror or str(error)).lower()}",
            "the line `start` in the game's description",
        ) from error

    def look(whole: bool = False) -> None:
        nonlocal at
        if log is not None:
            lines, at = _new_lines(log, at, whole)
            for text in lines:
                run.lines.append(marks.line(text))
                on_line(run.lines[-1])

    try:
        while run.status is None:
            try:
                run.status = process.wait(PAUSE)
            except subprocess.TimeoutExpired:
                look()
                if limit is not None and time.monotonic() - began > limit:
                    break
    finally:
        if process.poll() is None:
            process.terminate()
            try:
                process.wait(5)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
    look(whole=True)
    run.seconds = time.monotonic() - began
    return run
