"""The chapters of the demo: scripts of commands with what their output must contain, and what runs them.

A chapter is a text file in `chapters/`. Its first line is its title. Then each line is one of:

    -- TEXT             narration
    $ COMMAND           a command line, as typed in a POSIX shell; with `|| true` it must fail
    ? CLAIM | TEXT ...  the output of the last command contains each text
"""

from __future__ import annotations

import contextlib
import io
import os
import shlex
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from volvex.command.ui.context import Context
from volvex.errors import Status, VolvexError
from volvex.source import Disk

FOLDER = Path(__file__).parent / "chapters"
ORDER = ("first", "look", "nested", "names", "data", "mods")  # that of the guide; others follow


class DemoError(VolvexError):
    """A step of the demo did not do what it should."""


@dataclass(frozen=True)
class Chapter:
    """One chapter: its name, its title, and its lines without the title."""

    name: str
    title: str
    lines: tuple[str, ...]


def chapter_names() -> list[str]:
    """All chapters in the order in which they are told."""
    names = {path.stem for path in FOLDER.glob("*.txt")}
    return [*(name for name in ORDER if name in names), *sorted(names - set(ORDER))]


def load_chapter(name: str) -> Chapter:
    """The chapter of that name."""
    title, *lines = (FOLDER / f"{name}.txt").read_text(encoding="utf-8").splitlines()
    return Chapter(name, title, tuple(lines))


class Runner:
    """Runs command lines in a folder, with a home of their own, and prints each before its output."""

    def __init__(self, folder: Path, context: Context, run: Callable[[list[str], Context], int]) -> None:
        """`run` is the main program: words and a context to an exit status."""
        self.folder, self.context, self.here, self._run = folder, context, folder, run
        self.output = ""  # of the last command
        self._environment = {"PYTHONIOENCODING": "utf-8", "VOLVEX_HOME": str(folder / "home")}

    def play(self, chapter: Chapter) -> None:
        """Run all lines of a chapter from the demo's folder; DemoError when one does not do what it should."""
        self.here = self.folder
        self._print(f"\n== {chapter.title}", "bold")
        self.enter(self.folder)
        for line in chapter.lines:
            mark, _, rest = line.partition(" ")
            if mark == "--":
                self._print(f"\n{line}", "bold")
            elif rest.startswith("cd "):
                self.enter(self.folder / rest[3:])
            elif mark == "$":
                self.command(rest)
            elif mark == "?":
                self._claim(rest)

    def enter(self, folder: Path) -> None:
        """Go to a folder."""
        self._print(f"$ {shlex.join(['cd', str(folder)])}", "green")
        self.here = folder

    def command(self, line: str) -> None:
        """Run one command line; DemoError when it ends otherwise than it should."""
        self._print(f"$ {line}", "green")
        self.context.out.flush()
        words = shlex.split(line.removesuffix(" || true"))
        status, self.output = self._volvex(words[1:]) if words[0] == "volvex" else self._process(words[1:])
        self.context.out.write(self.output)
        if status == Status.INTERRUPTED:
            raise KeyboardInterrupt
        if bool(status) != line.endswith("|| true"):
            raise DemoError(f"`{line}` ended with status {status}")

    def _volvex(self, words: list[str]) -> tuple[int, str]:
        out = io.StringIO()
        context = Context(
            out=out,
            err=out,
            terminal=False,
            colour=False,
            width=100,
            cwd=self.here,
            disk=Disk(),
            environment={**self.context.environment, **self._environment},
        )
        with contextlib.chdir(self.here):
            status = self._run(words, context)
        return status, out.getvalue()

    def _process(self, words: list[str]) -> tuple[int, str]:
        done = subprocess.run(
            [sys.executable, *words],
            cwd=self.here,
            env={**os.environ, **self._environment},
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            encoding="utf-8",
        )
        return done.returncode, done.stdout

    def _claim(self, line: str) -> None:
        claim, *texts = line.split(" | ")
        if not all(text in self.output for text in texts):
            raise DemoError(f"expected, but not so: {claim}", "looking at the output above")
        self.context.print(f"{self.context.paint('checked', 'green')}: {claim}")

    def _print(self, text: str, style: str) -> None:
        self.context.print(self.context.paint(text, style))
