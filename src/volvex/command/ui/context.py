"""What a command works with: streams, folders, the disk. Made once, in `main`."""

from __future__ import annotations

import contextlib
import functools
import json
import os
import sys
import textwrap
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

from volvex.source import Disk

if TYPE_CHECKING:
    from rich.progress import Progress

    from volvex.layout import Library
    from volvex.layout.keyring import KeyRing
    from volvex.names.dictionary_set import DictionarySet

SETTINGS = "settings.toml"  # in the user's folder
EVERY = 0.3  # seconds between lines that are printed beside a bar
STYLES = {"dim": "2", "bold": "1", "red": "31", "green": "32", "yellow": "33", "blue": "94", "cyan": "36"}


@dataclass
class Drawn:
    """A bar on the terminal, and the lines that are printed beside it: it makes room for some of them at a time."""

    bar: Progress
    out: TextIO
    lines: list[str] = field(default_factory=list)
    last: float = 0.0

    def print(self, text: str) -> None:
        self.lines.append(text)
        if time.monotonic() - self.last > EVERY:
            self.let_out()

    def let_out(self) -> None:
        self.bar.stop()
        self.out.write("".join(self.lines))
        self.out.flush()
        self.lines.clear()
        self.bar.start()
        self.last = time.monotonic()


@dataclass
class Context:
    """Streams and folders of one run."""

    out: TextIO
    err: TextIO
    terminal: bool
    colour: bool
    width: int
    cwd: Path
    disk: Disk
    environment: Mapping[str, str]
    answers: bool = False  # whether somebody sits there who can be asked
    debug: bool = False
    quiet: bool = False
    verbose: bool = False
    pager: str | None = None  # the program for long text, when the user has chosen one
    author: bool = False  # whether errors are for the author of a layout, who may have made a mistake in it
    interrupted: tuple[str, str] = ("no file was left half-written", "")  # what is so after Ctrl-C, and how to go on
    advise: Callable[[str], str] = str  # completes the commands in a message by what the user named
    held: contextlib.ExitStack = field(
        default_factory=contextlib.ExitStack
    )  # what is let go of when the command is done
    accounts: list[dict[str, Any]] = field(default_factory=list)  # records beside the files, for `--json`
    drawn: Drawn | None = None  # the bar that is on the terminal

    def print(self, text: str = "") -> None:
        if self.drawn is None:
            self.out.write(text + "\n")
        else:
            self.drawn.print(text + "\n")

    def account(self, **record: Any) -> None:
        """A result as a record, in place of the lines of a command that has no JSON of its own."""
        self.accounts.append(record)

    def wrapped(self, text: str, indent: str) -> str:
        """A text behind a margin; on a terminal broken between words where its lines end."""
        if not self.terminal:
            return indent + text
        filler = textwrap.TextWrapper(
            max(40, self.width), indent, indent, break_long_words=False, break_on_hyphens=False
        )
        return filler.fill(text)

    def note(self, text: str) -> None:
        """Something beside the result; not printed with --quiet."""
        if not self.quiet:
            self.err.write(self.advise(text) + "\n")

    def complain(self, text: str) -> None:
        """An error, or what a command did not do: always printed."""
        self.err.write(self.advise(text) + "\n")

    def tip(self, text: str) -> None:
        """What can be done next, below a result. Its commands stand in backquotes, and get what the user named."""
        self.print(self.paint(self.advise(text), "dim"))

    def detail(self, text: str) -> None:
        """Something that is printed with --verbose only."""
        if self.verbose:
            self.err.write(text + "\n")

    def paint(self, text: str, style: str) -> str:
        """The text in a colour, on a terminal."""
        return f"\x1b[{STYLES[style]}m{text}\x1b[0m" if self.colour and text else text

    def json(self, records: Iterable[Any]) -> None:
        """One document: a list of records."""
        json.dump(list(records), self.out, indent=1)
        self.out.write("\n")

    @property
    def home(self) -> Path:
        """The user's own layouts, game descriptions and keys."""
        if "VOLVEX_HOME" in self.environment:
            return Path(self.environment["VOLVEX_HOME"])
        import platformdirs

        return platformdirs.user_config_path("volvex", appauthor=False)

    def library(self, *folders: Path) -> Library:
        """All layouts and known dictionaries; those of the benches in `folders`, and of the bench around, come
        first."""
        from volvex.archive.access.paths import LAYOUTS
        from volvex.layout import Library, cache

        cache.GRAMMARS = self.cache / "grammar"
        benches = dict.fromkeys([*folders, *([] if self.bench is None else [self.bench])])
        return Library(
            [*(bench / LAYOUTS for bench in benches), self.home],
            memory=self.cache / "layouts",
            keys=self.keys,
            names=self.dictionaries(*folders),
        )

    def dictionaries(self, *folders: Path) -> DictionarySet:
        """The known dictionaries, those of `folders` and of the bench around first."""
        from volvex.names.dictionary_set import FOLDER, DictionarySet

        around = [] if self.bench is None else [self.bench]
        homes = dict.fromkeys([*folders, *around, self.home])
        return DictionarySet([home / FOLDER for home in homes], self.cache / "names", [self.home])

    @functools.cached_property
    def bench(self) -> Path | None:
        """The bench that we stand in."""
        from volvex.archive.access.paths import DESCRIPTION

        return next((folder for folder in (self.cwd, *self.cwd.parents) if (folder / DESCRIPTION).is_file()), None)

    @functools.cached_property
    def keys(self) -> KeyRing:
        """The user's keys; what is missing is asked for on a terminal."""
        from volvex.archive import key_file
        from volvex.layout.keyring import KeyRing

        self.warn_of_keys()
        ask = self.asked if self.answers else None
        return KeyRing(key_file.read_keys(self.home), ask, lambda name: key_file.was_right(self.home, name, self.disk))

    def warn_of_keys(self) -> None:
        """Say so when other users can read the key file."""
        from volvex.archive import key_file

        if key_file.read_by_others(self.home):
            path = self.home / key_file.NAME
            self.note(f"note: {path} can be read by other users of this computer; try `chmod 600 {path}`")

    def asked(self, what: str) -> bytes | None:
        """A secret that the user types in, without showing it; None when they give none."""
        import getpass

        try:
            return getpass.getpass(f"secret for {what}: ", self.err).encode() or None
        except EOFError:
            return None

    def confirmed(self, question: str) -> bool:
        """Whether the user, being asked, says yes; no when nobody can be asked."""
        if not self.answers:
            return False
        self.err.write(f"{question} [y/N] ")
        self.err.flush()
        return sys.stdin.readline().strip().lower() in ("y", "yes")

    @property
    def cache(self) -> Path:
        """What can be made again."""
        if "VOLVEX_HOME" in self.environment:
            return self.home / "cache"
        import platformdirs

        return platformdirs.user_cache_path("volvex", appauthor=False)

    @contextlib.contextmanager
    def progress(self, what: str, total: int, of: str = "") -> Iterator[Callable[[int], None]]:
        """Something to tell how many bytes (or what `of` says) are done; drawn on a terminal, with rate and time
        left."""
        if self.quiet or not self.err.isatty() or total < 1 << 24:
            yield lambda size: None
            return
        from rich.console import Console
        from rich.progress import (
            BarColumn,
            DownloadColumn,
            MofNCompleteColumn,
            Progress,
            TextColumn,
            TimeRemainingColumn,
            TransferSpeedColumn,
        )

        done = (MofNCompleteColumn(), TextColumn(of)) if of else (DownloadColumn(), TransferSpeedColumn())
        columns = (TextColumn(what), BarColumn(), *done, TimeRemainingColumn())
        with Progress(*columns, console=Console(file=self.err), transient=True) as bar:
            task = bar.add_task(what, total=total)
            self.drawn = Drawn(bar, self.out)
            try:
                yield lambda size: bar.update(task, advance=size)
            finally:
                drawn, self.drawn = self.drawn, None
                drawn.let_out()


def make_context() -> Context:
    """The context of this process."""
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
    terminal = sys.stdout.isatty()
    width = 100
    if terminal:
        with contextlib.suppress(OSError):
            width = os.get_terminal_size(sys.stdout.fileno()).columns
    return Context(
        out=sys.stdout,
        err=sys.stderr,
        terminal=terminal,
        colour=terminal and "NO_COLOR" not in os.environ,
        width=width,
        answers=sys.stdin is not None and sys.stdin.isatty() and sys.stderr.isatty(),
        cwd=Path.cwd(),
        disk=Disk(),
        environment=os.environ,
    )
